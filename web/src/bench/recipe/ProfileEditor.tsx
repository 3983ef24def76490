import { useState } from 'react'
import { edit } from '../state'
import { DrawnPoint } from './DrawnPoint'
import { NumberLine } from './NumberLine'
import { bowTo, middle, path, split, spot, type ProfilePoint, type Revolved } from './profile'
import { PointHead } from './PointHead'
import { Ruler } from './Ruler'
import { SheetSwitch } from './SheetSwitch'
import { withShape } from './shapeRules'
import { drawn, useDrawing, type Spot } from './useDrawing'
import { Value } from './Value'
import './drawing.css'

/** What is pulled: a point, the arc after a point, or the axis. */
type Held = { what: 'point' | 'arc'; n: number } | { what: 'axis' }

/** A closed profile drawn beside its axis: points are pulled, lines bow out when their middle is pulled. */
export function ProfileEditor({ shape }: { shape: Revolved }) {
  const [chosen, setChosen] = useState(0)
  const { points } = shape
  const n = Math.min(chosen, points.length - 1)
  const point = points[n]

  const set = (change: (s: Revolved) => Revolved) => withShape('revolved', change)
  const withPoint = (m: number, to: Partial<ProfilePoint>) =>
    set((s) => ({ ...s, points: s.points.map((p, i) => (i === m ? { ...p, ...to } : p)) }))
  const move = (m: number, at: Spot) => withPoint(m, { at_mm: [at[0], at[1]] })
  const bow = (m: number, bow_mm: number) => withPoint(m, { bow_mm })

  const spots: Spot[] = [
    ...points.flatMap((p, m) => [spot(p), middle(points, m)]),
    [shape.axis_mm, spot(points[0] ?? { at_mm: [0, 0], bow_mm: 0 })[1]],
  ]
  const { svg, place, scale, keys, ruler, grip } = useDrawing<Held>(
    spots,
    (held, at, near) => {
      if (held.what === 'point') return move(held.n, [near(at[0]), near(at[1])])
      if (held.what === 'arc') return bow(held.n, near(bowTo(points, held.n, at)))
      return set((s) => ({ ...s, axis_mm: near(at[0]) }))
    },
    (held) => held.what !== 'axis' && setChosen(held.n),
  )
  const remove = () => {
    edit(set((s) => ({ ...s, points: s.points.filter((_, i) => i !== n) })))
    setChosen(Math.max(0, n - 1))
  }
  const axis = place([shape.axis_mm, 0])[0]
  return (
    <>
      <svg
        ref={svg}
        className="drawing profile"
        {...drawn}
        role="group"
        aria-label="Profile"
        tabIndex={0}
        onKeyDown={keys(
          point && spot(point),
          (to) => move(n, to),
          points.length > 3 ? remove : null,
        )}
      >
        <path
          className={shape.sheet ? 'area open' : 'area'}
          d={path(points, place, scale, shape.sheet)}
        />
        <g className="axis" aria-label="Axis" {...grip({ what: 'axis' })}>
          <line x1={axis} x2={axis} y1={0} y2={drawn.height} />
          <rect x={axis - 6} y={0} width={12} height={drawn.height} />
        </g>
        {points.slice(0, shape.sheet ? -1 : undefined).map((_, m) => {
          const [x, y] = place(middle(points, m))
          return (
            <rect
              key={m}
              className="arc"
              aria-label={`Line after point ${m + 1}`}
              x={x - 4}
              y={y - 4}
              width={8}
              height={8}
              transform={`rotate(45 ${x} ${y})`}
              {...grip({ what: 'arc', n: m })}
            />
          )
        })}
        {points.map((p, m) => (
          <DrawnPoint
            key={m}
            n={m}
            at={place(spot(p))}
            chosen={m === n}
            {...grip({ what: 'point', n: m })}
          />
        ))}
        <Ruler mm={ruler} scale={scale} />
        <text className="word" x={Math.min(axis + 8, drawn.width - 40)} y={14}>
          axis
        </text>
      </svg>
      {point && (
        <div className="editor pointfields">
          <PointHead
            n={n}
            of={points.length}
            least={3}
            onAdd={() => (
              edit(set((s) => ({ ...s, points: split(s.points, n) }))),
              setChosen(n + 1)
            )}
            onRemove={remove}
          />
          <NumberLine
            label="From the axis"
            value={spot(point)[0] - shape.axis_mm}
            unit="mm"
            onSet={(v) => edit(move(n, [v + shape.axis_mm, spot(point)[1]]))}
          />
          <NumberLine
            label="Height"
            value={spot(point)[1]}
            unit="mm"
            onSet={(v) => edit(move(n, [spot(point)[0], v]))}
          />
          <NumberLine
            label="Arc to the next, bow"
            value={point.bow_mm}
            unit="mm"
            onSet={(v) => edit(bow(n, v))}
          />
        </div>
      )}
      <SheetSwitch
        label="Open, as a sheet"
        on={shape.sheet}
        set={(sheet) => set((s) => ({ ...s, sheet }))}
      />
      <NumberLine
        label="Axis at"
        value={shape.axis_mm}
        unit="mm"
        onSet={(axis_mm) => edit(set((s) => ({ ...s, axis_mm })))}
      />
      <Value
        label="Steps around"
        value={shape.steps}
        unit=""
        range={[3, 180]}
        digits={0}
        still={(v) => v < 3}
        change={(steps) => set((s) => ({ ...s, steps: Math.round(steps) }))}
      />
    </>
  )
}
