import { useState } from 'react'
import type { Recipe } from '../../api/client'
import { edit } from '../state'
import { curvePath, spotsOf, withPointAfter, type Section } from './curve'
import { DrawnPoint } from './DrawnPoint'
import { NumberLine } from './NumberLine'
import { PointHead } from './PointHead'
import { Ruler } from './Ruler'
import { drawn, useDrawing, type Spot } from './useDrawing'
import './drawing.css'

/** A section's smooth curve, seen from above: its points are pulled or typed. */
export function CurveEditor({
  section,
  open,
  set,
}: {
  section: Section
  open: boolean
  set: (change: Partial<Section>) => (r: Recipe) => Recipe
}) {
  const [chosen, setChosen] = useState(0)
  const points = spotsOf(section)
  const n = Math.min(chosen, points.length - 1)
  const point = points[n]
  const least = open ? 2 : 3
  const move = (m: number, to: Spot) =>
    set({ curve_mm: points.map((p, i) => (i === m ? [to[0], to[1]] : [p[0], p[1]])) })
  const { svg, place, scale, keys, ruler, grip } = useDrawing<number>(
    [...points, [0, 0]],
    (m, at, near) => move(m, [near(at[0]), near(at[1])]),
    setChosen,
  )
  const remove = () => {
    edit(set({ curve_mm: section.curve_mm.filter((_, i) => i !== n) }))
    setChosen(Math.max(0, n - 1))
  }
  const [x, y] = place([0, 0])
  return (
    <>
      <svg
        ref={svg}
        className="drawing profile"
        {...drawn}
        role="group"
        aria-label="Curve"
        tabIndex={0}
        onKeyDown={keys(point, (to) => move(n, to), points.length > least ? remove : null)}
      >
        <path className={open ? 'area open' : 'area'} d={curvePath(points, open, place)} />
        <path className="middle" d={`M ${x - 5} ${y} H ${x + 5} M ${x} ${y - 5} V ${y + 5}`} />
        {points.map((p, m) => (
          <DrawnPoint key={m} n={m} at={place(p)} chosen={m === n} {...grip(m)} />
        ))}
        <Ruler mm={ruler} scale={scale} />
      </svg>
      {point && (
        <div className="editor pointfields">
          <PointHead
            n={n}
            of={points.length}
            least={least}
            onAdd={() => (
              edit(set({ curve_mm: withPointAfter(points, n, open) })),
              setChosen(n + 1)
            )}
            onRemove={remove}
          />
          <NumberLine
            label="Point X"
            value={point[0]}
            unit="mm"
            onSet={(v) => edit(move(n, [v, point[1]]))}
          />
          <NumberLine
            label="Point Y"
            value={point[1]}
            unit="mm"
            onSet={(v) => edit(move(n, [point[0], v]))}
          />
        </div>
      )}
    </>
  )
}
