import { Segmented, Select, Switch } from 'antd'
import type { ReactNode } from 'react'

/** A control with its name before it. */
export function Line({ label, children }: { label: ReactNode; children: ReactNode }) {
  return (
    <div className="line">
      <span className="label">{label}</span>
      {children}
    </div>
  )
}

/** Something that is on or off; `name` where it differs from what stands before it. */
export function SwitchLine({
  label,
  name = label,
  checked,
  onChange,
}: {
  label: string
  name?: string
  checked: boolean
  onChange: (on: boolean) => void
}) {
  return (
    <Line label={label}>
      <Switch size="small" aria-label={name} checked={checked} onChange={onChange} />
    </Line>
  )
}

/** One of a few, all in sight. */
export function ChoiceLine<T extends string | number>({
  label,
  value,
  options,
  onChange,
}: {
  label: string
  value: T | ''
  options: { value: T; label: string }[]
  onChange: (v: T) => void
}) {
  return (
    <Line label={label}>
      <Segmented<T | ''>
        size="small"
        aria-label={label}
        value={value}
        options={options}
        onChange={(v) => v !== '' && onChange(v)}
      />
    </Line>
  )
}

/** One of many, by its name. */
export function OneOf<T extends string | number>(p: {
  label: string
  value: T
  options: { value: T; label: string }[]
  onChange: (value: T) => unknown
  width?: number
}) {
  return (
    <Line label={p.label}>
      <Select<T>
        size="small"
        aria-label={p.label}
        style={{ width: p.width ?? 190 }}
        value={p.value}
        options={p.options}
        onChange={p.onChange}
      />
    </Line>
  )
}
