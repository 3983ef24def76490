import { Modal } from 'antd'

/** A typed value ten times the old one, or a tenth, is more often a slip than meant. */
export function ask(label: string, from: number, to: number, unit: string): Promise<boolean> {
  const ratio = Math.abs(to) / Math.abs(from)
  if (from === 0 || to === 0 || (ratio < 10 && ratio > 0.1)) return Promise.resolve(true)
  const inUnit = (v: number) => (unit ? `${v} ${unit}` : `${v}`)
  return new Promise((answer) => {
    Modal.confirm({
      title: `${label}: ${inUnit(to)}?`,
      content: `It was ${inUnit(from)}: ${ratio >= 10 ? `${Math.round(ratio)} times as much now` : `a ${Math.round(1 / ratio)}th of it now`}.`,
      okText: `Use ${inUnit(to)}`,
      cancelText: `Keep ${inUnit(from)}`,
      onOk: () => answer(true),
      onCancel: () => answer(false),
    })
  })
}
