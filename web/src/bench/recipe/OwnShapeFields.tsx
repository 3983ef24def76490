import { edit, useBench } from '../state'
import { FreeFormFields } from './FreeFormFields'
import { SwitchLine } from './Lines'
import { LoftFields } from './LoftFields'
import { ProfileEditor } from './ProfileEditor'
import { SheetSwitch } from './SheetSwitch'
import { withShape } from './shapeRules'
import { Value } from './Value'

/** Names of a shape's dimensions, by their field. */
const names: Record<string, string> = {
  round_mm: 'Rounding, radius',
  wall_mm: 'Wall',
  open: 'Open at the top',
  diameter_mm: 'Diameter',
  bore_mm: 'Bore, diameter',
  height_mm: 'Height',
  bottom_mm: 'Lower diameter',
  top_mm: 'Upper diameter',
  thickness_mm: 'Ring thickness',
  corner_mm: 'Corner radius',
  hole_mm: 'Holes, diameter',
  parts: 'Edges in parts',
  sheet: 'Only the side, as a sheet',
}

/** The dimensions of a part that is made, not read. */
export function OwnShapeFields() {
  const shape = useBench((s) => s.recipe?.part.shape)
  const size = useBench((s) => s.project?.part.size_mm)
  if (!shape || !size) return null
  if (shape.shape === 'revolved') return <ProfileEditor shape={shape} />
  if (shape.shape === 'loft') return <LoftFields shape={shape} />
  if (shape.shape === 'free_form') return <FreeFormFields shape={shape} />
  const set = (change: Partial<Record<string, unknown>>) =>
    withShape(shape.shape, (s) => ({ ...s, ...change }))
  const longest = Math.max(...size)
  const length = (
    key: string,
    label: string,
    value: number,
    change: (v: number) => Partial<Record<string, unknown>>,
  ) => (
    <Value
      key={key}
      label={label}
      value={value}
      unit="mm"
      range={[0, Number((2 * longest).toPrecision(2))]}
      digits={1}
      still={(n) => n <= 0}
      change={(v) => set(change(v))}
    />
  )
  return (
    <>
      {Object.entries(shape).map(([key, v]) => {
        const label = names[key] ?? key
        if (Array.isArray(v))
          return v.map((side, i) =>
            length(`${key} ${i}`, `Side ${'XYZ'[i]}`, side, (n) => ({
              [key]: v.map((old, j) => (i === j ? n : old)),
            })),
          )
        if (key === 'sheet' && typeof v === 'boolean')
          return <SheetSwitch key={key} label={label} on={v} set={(sheet) => set({ sheet })} />
        if (typeof v === 'boolean')
          return (
            <SwitchLine
              key={key}
              label={label}
              checked={v}
              onChange={(on) => edit(set({ [key]: on }))}
            />
          )
        if (typeof v !== 'number') return null
        if (key.endsWith('_mm')) return length(key, label, v, (n) => ({ [key]: n }))
        // A count.
        return (
          <Value
            key={key}
            label={label}
            value={v}
            unit=""
            range={[1, 48]}
            digits={0}
            still={(n) => n < 1}
            change={(n) => set({ [key]: Math.round(n) })}
          />
        )
      })}
    </>
  )
}
