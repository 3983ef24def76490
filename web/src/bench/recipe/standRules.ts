import type { Recipe } from '../../api/client'
import { triple } from './zoneRules'

export type Stand = NonNullable<Recipe['stand']>

/** First values: as it is, on a bed of a common size. */
const first: Stand = { down: [0, 0, -1], turn_deg: 0, bed_mm: [220, 220, 250] }

export const withStand =
  (change: Partial<Stand>) =>
  (r: Recipe): Recipe => ({ ...r, stand: { ...(r.stand ?? first), ...change } })

/** Stands the part on a face that looks along `outward`. */
export const standOn = (outward: readonly number[]) =>
  withStand({ down: triple(outward.map((v) => Number(v.toFixed(6)))) })

/** The axes of the part, by the direction that looks down. */
export const axes = [
  { label: '−X', down: [-1, 0, 0] },
  { label: '+X', down: [1, 0, 0] },
  { label: '−Y', down: [0, -1, 0] },
  { label: '+Y', down: [0, 1, 0] },
  { label: '−Z', down: [0, 0, -1] },
  { label: '+Z', down: [0, 0, 1] },
] as const

/** The axis that looks down, if one does. */
export function axisDown({ down }: Stand) {
  const length = Math.hypot(...down) || 1
  return (
    axes.find((a) => a.down.every((v, i) => Math.abs(v - (down[i] ?? 0) / length) < 1e-4))?.label ??
    ''
  )
}
