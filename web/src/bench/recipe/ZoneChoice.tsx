import { Select } from 'antd'
import type { Recipe, Zone } from '../../api/client'
import { Line } from './Lines'
import { withZones } from './zoneRules'

type Mark = 'finer' | 'thicker'

/** Numbers of the zones that are marked so. */
export const marked = (list: readonly Zone[], mark: Mark) =>
  list.flatMap((z, i) => (z[mark] ? [i] : []))

export const withMarked = (mark: Mark, chosen: number[]) => (r: Recipe) =>
  withZones((z) => ({
    ...z,
    list: z.list.map((old, i) => ({ ...old, [mark]: chosen.includes(i) })),
  }))(r)

/** Some of the zones, and what else is on offer, by number. */
export function ZoneChoice({
  label,
  zones,
  more = [],
  chosen,
  onChange,
}: {
  label: string
  zones: readonly Zone[]
  more?: { value: number; label: string }[]
  chosen: number[]
  onChange: (chosen: number[]) => void
}) {
  return (
    <Line label={label}>
      <Select<number[]>
        mode="multiple"
        size="small"
        aria-label={label}
        style={{ width: 210 }}
        placeholder={zones.length + more.length > 0 ? 'choose zones' : 'there are no zones yet'}
        value={chosen}
        options={[...more, ...zones.map((z, value) => ({ value, label: z.name }))]}
        onChange={onChange}
      />
    </Line>
  )
}
