import { InputNumber } from 'antd'
import type { KeyboardEvent } from 'react'
import { useRefused } from './useRefused'
import { triple } from './zoneRules'

interface Field {
  label: string
  value: number
  unit?: string
  /** What comes of saving it, when that is waited for. */
  onSet: (v: number) => unknown
}

/** Leaves the field on Enter: the event comes from what stands around it. */
export const leave = (e: KeyboardEvent) => (e.target as HTMLInputElement).blur()

/** A typed value, taken when its field is left. */
function NumberField({ label, value, unit, onSet }: Field) {
  const { refused, take } = useRefused()
  const shown = refused?.value ?? value
  return (
    <InputNumber
      key={shown}
      status={refused ? 'error' : ''}
      title={refused ? `${refused.refusal.message} ${refused.refusal.hint}` : undefined}
      size="small"
      aria-label={label}
      controls={false}
      suffix={unit}
      defaultValue={Number(shown.toFixed(3))}
      style={{ width: unit ? 96 : '100%' }}
      onBlur={(e) => {
        const n = Number.parseFloat(e.target.value)
        if (Number.isFinite(n) && Math.abs(n - shown) > 5e-4) void take(n, onSet(n))
      }}
      onPressEnter={leave}
    />
  )
}

/** A typed value with its name. */
export function NumberLine(p: Field & { unit: string }) {
  return (
    <div className="line">
      <span className="label">{p.label}</span>
      <NumberField {...p} />
    </div>
  )
}

/** Three typed values along x, y and z. */
export function TripleLine({
  label,
  unit,
  value,
  onSet,
}: {
  label: string
  unit: string
  value: readonly number[]
  onSet: (v: [number, number, number]) => unknown
}) {
  return (
    <div className="triple">
      <span className="label">
        {label} <small className="muted">{unit}</small>
      </span>
      {['X', 'Y', 'Z'].map((name, i) => (
        <NumberField
          key={name}
          label={`${label} ${name}`}
          value={value[i] ?? 0}
          onSet={(v) => onSet(triple(value.map((old, j) => (i === j ? v : old))))}
        />
      ))}
    </div>
  )
}
