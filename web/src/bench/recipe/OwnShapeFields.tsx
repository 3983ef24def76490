import { Switch } from 'antd'
import type { OwnShape } from '../../api/client'
import { edit, useBench } from '../state'
import { LoftFields } from './LoftFields'
import { ProfileEditor } from './ProfileEditor'
import { Value } from './Value'

/** Names of a shape's dimensions, by their field. */
const names: Record<string, string> = {
  round_mm: 'Rounding, radius',
  wall_mm: 'Wall',
  diameter_mm: 'Diameter',
  bore_mm: 'Bore, diameter',
  height_mm: 'Height',
  bottom_mm: 'Lower diameter',
  top_mm: 'Upper diameter',
  thickness_mm: 'Ring thickness',
  corner_mm: 'Corner radius',
  hole_mm: 'Holes, diameter',
}

/** The dimensions of a part that is made, not read. */
export function OwnShapeFields() {
  const shape = useBench((s) => s.recipe?.part.shape)
  const size = useBench((s) => s.project?.part.size_mm)
  if (!shape || !size) return null
  if (shape.shape === 'revolved') return <ProfileEditor shape={shape} />
  if (shape.shape === 'loft') return <LoftFields shape={shape} />
  const set = (change: Partial<Record<string, unknown>>) => (r: NonNullable<ReturnType<typeof useBench.getState>['recipe']>) => ({ ...r, part: { ...r.part, shape: { ...shape, ...change } as OwnShape } })
  const longest = Math.max(...size)
  const slider = (key: string, label: string, value: number, change: (v: number) => Partial<Record<string, unknown>>) => (
    <Value key={key} label={label} value={value} unit="mm" range={[0, Number((2 * longest).toPrecision(2))]} digits={1} still={(n) => n <= 0} change={(v) => set(change(v))} />
  )
  return (
    <>
      {Object.entries(shape).map(([key, v]) => {
        if (Array.isArray(v)) return v.map((side, i) => slider(`${key} ${i}`, `Side ${'XYZ'[i]}`, side, (n) => ({ [key]: v.map((old, j) => (i === j ? n : old)) })))
        if (key === 'parts' && typeof v === 'number')
          return <Value key={key} label="Edges in parts" value={v} unit="" range={[1, 48]} digits={0} still={(n) => n < 1} change={(n) => set({ parts: Math.round(n) })} />
        if (typeof v === 'number') return slider(key, names[key] ?? key, v, (n) => ({ [key]: n }))
        if (typeof v === 'boolean')
          return (
            <div className="line" key={key}>
              <span className="label">Open at the top</span>
              <Switch size="small" aria-label="Open at the top" checked={v} onChange={(on) => edit(set({ [key]: on }))} />
            </div>
          )
        return null
      })}
    </>
  )
}
