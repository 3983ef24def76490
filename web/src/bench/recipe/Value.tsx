import { InputNumber, Slider } from 'antd'
import { useEffect, useRef, useState, type ReactNode } from 'react'
import type { Recipe } from '../../api/client'
import { edit, preview } from '../state'
import { ask } from './tenfold'
import { useRefused } from './useRefused'

interface Props {
  label: string
  hint?: ReactNode
  value: number
  unit: string
  /** What the slider offers; typing may go further. */
  range: readonly number[]
  digits?: number
  /** What a value makes of the recipe. */
  change: (v: number) => (r: Recipe) => Recipe
  /** Values that are not drawn before they rest. */
  still?: (v: number) => boolean
  /** Shown as following from another value. */
  follows?: boolean
}

/** A slider paired with a typed value. */
export function Value({
  label,
  hint,
  value,
  unit,
  range,
  digits = 2,
  change,
  still,
  follows,
}: Props) {
  const [typed, setTyped] = useState<number | null>(null)
  const { refused, take: saved } = useRefused()
  useEffect(() => setTyped(null), [value])
  const [low = 0, high = 1] = range
  const tidy = (v: number) => Number(v.toFixed(digits))
  const step = 10 ** -digits

  // The question takes the focus, and losing it must not ask again.
  const asking = useRef(false)
  const take = async (v: number | null) => {
    if (asking.current) return
    if (v === null || v === tidy(value) || v === refused?.value) return setTyped(null)
    asking.current = true
    if (await ask(label, tidy(value), v, unit)) void saved(v, edit(change(v)))
    else setTyped(null)
    asking.current = false
  }

  return (
    <div className={follows ? 'value follows' : 'value'}>
      <span className="label">
        {label}
        {hint && <small>{hint}</small>}
      </span>
      <Slider
        min={low}
        max={high}
        step={step}
        value={Math.min(Math.max(value, low), high)}
        tooltip={{ open: false }}
        ariaLabelForHandle={label}
        onChange={(v) => !still?.(v) && preview(change(v))}
        onChangeComplete={(v) => void saved(v, edit(change(v)))}
      />
      <InputNumber
        aria-label={`${label}, ${unit}`}
        value={typed ?? refused?.value ?? tidy(value)}
        status={refused ? 'error' : ''}
        suffix={unit}
        step={step * 10}
        controls={false}
        onChange={setTyped}
        onBlur={() => void take(typed)}
        onPressEnter={() => void take(typed)}
      />
      {refused && (
        <p className="remark bad" role="alert">
          {refused.refusal.message} {refused.refusal.hint}
        </p>
      )}
    </div>
  )
}
