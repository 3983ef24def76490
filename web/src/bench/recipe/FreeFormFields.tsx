import { edit, useBench } from '../state'
import { TripleLine } from './NumberLine'
import { resampled } from './controlGrid'
import { withShape, type ShapeOf } from './shapeRules'
import { Value } from './Value'

/** A sheet by its control points: one is chosen in the picture and pulled there, or typed here. */
export function FreeFormFields({ shape }: { shape: ShapeOf<'free_form'> }) {
  const control = useBench((b) => b.control)
  const { across, points_mm: points } = shape
  const rows = points.length / across
  const n = Math.min(control, points.length - 1)
  const point = points[n]
  const counts = (u: number, v: number) =>
    withShape('free_form', (s) => ({
      ...s,
      across: u,
      points_mm: resampled(s.points_mm, s.across, u, v),
    }))
  const count = (
    label: string,
    value: number,
    change: (k: number) => ReturnType<typeof counts>,
  ) => (
    <Value
      label={label}
      value={value}
      unit=""
      range={[2, 12]}
      digits={0}
      still={() => true}
      change={(k) => change(Math.min(Math.max(Math.round(k), 2), 24))}
    />
  )
  return (
    <>
      {count('Points across', across, (u) => counts(u, rows))}
      {count('Rows of points', rows, (v) => counts(across, v))}
      {point && (
        <div className="editor pointfields">
          <b>
            Point {(n % across) + 1} of row {Math.floor(n / across) + 1}
          </b>
          <p className="muted small">
            Pull it by its arrows in the picture, or click another one there.
          </p>
          <TripleLine
            label="At"
            unit="mm"
            value={point}
            onSet={(to) =>
              edit(
                withShape('free_form', (s) => ({
                  ...s,
                  points_mm: s.points_mm.map((p, i) => (i === n ? to : p)),
                })),
              )
            }
          />
        </div>
      )}
    </>
  )
}
