import { Modal } from 'antd'

/** A typed value ten times the old one, or a tenth, is more often a slip than meant. */
export function ask(label: string, from: number, to: number, unit: string): Promise<boolean> {
  const ratio = Math.abs(to) / Math.abs(from)
  if (from === 0 || to === 0 || (ratio < 10 && ratio > 0.1)) return Promise.resolve(true)
  return new Promise((answer) => {
    Modal.confirm({
      title: `${label}: ${to} ${unit}?`,
      content: `It was ${from} ${unit}: ${ratio >= 10 ? `${Math.round(ratio)} times as much now` : `a ${Math.round(1 / ratio)}th of it now`}.`,
      okText: `Use ${to} ${unit}`,
      cancelText: `Keep ${from} ${unit}`,
      onOk: () => answer(true),
      onCancel: () => answer(false),
    })
  })
}
