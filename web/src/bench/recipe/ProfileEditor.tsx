import { Button } from 'antd'
import { useRef, useState, type KeyboardEvent, type PointerEvent } from 'react'
import { edit, preview } from '../state'
import { SwitchLine } from './Lines'
import { NumberLine } from './NumberLine'
import { bowTo, middle, path, split, spot, type ProfilePoint, type Revolved, type Spot } from './profile'
import { withShape } from './shapeRules'
import { Value } from './Value'
import './drawing.css'

const width = 282
const height = 200
const margin = 22

/** What is dragged: a point, the arc after a point, or the axis. */
type Held = { what: 'point' | 'arc'; n: number } | { what: 'axis' }

/** What the drawing shows: its left lower corner, and pixels to a millimetre. */
interface Frame {
  low: Spot
  scale: number
}

function frameOf(shape: Revolved): Frame {
  const xs = [...shape.points.map((p) => spot(p)[0]), ...shape.points.map((_, n) => middle(shape.points, n)[0]), shape.axis_mm]
  const ys = [...shape.points.map((p) => spot(p)[1]), ...shape.points.map((_, n) => middle(shape.points, n)[1])]
  const [x0, x1, y0, y1] = [Math.min(...xs), Math.max(...xs), Math.min(...ys), Math.max(...ys)]
  const scale = Math.min((width - 2 * margin) / Math.max(x1 - x0, 1e-3), (height - 2 * margin) / Math.max(y1 - y0, 1e-3))
  return { low: [(x0 + x1) / 2 - width / 2 / scale, (y0 + y1) / 2 - height / 2 / scale], scale }
}

/** A round length that is about `mm`. */
function roundLength(mm: number) {
  const ten = 10 ** Math.floor(Math.log10(mm))
  return [1, 2, 5, 10].map((n) => n * ten).find((v) => v >= mm * 0.999) ?? mm
}

/** A closed profile drawn beside its axis: points are pulled, lines bow out when their middle is pulled. */
export function ProfileEditor({ shape }: { shape: Revolved }) {
  const [chosen, setChosen] = useState(0)
  const [held, setHeld] = useState<{ held: Held; frame: Frame; from: Spot; moved: boolean } | null>(null)
  const svg = useRef<SVGSVGElement>(null)
  // The drawing stands still while something is pulled.
  const { low, scale } = held?.frame ?? frameOf(shape)
  const { points } = shape
  const n = Math.min(chosen, points.length - 1)
  const point = points[n]
  const place = ([x, y]: Spot): Spot => [(x - low[0]) * scale, height - (y - low[1]) * scale]

  const set = (change: (s: Revolved) => Revolved) => withShape('revolved', change)
  const withPoint = (m: number, to: Partial<ProfilePoint>) => set((s) => ({ ...s, points: s.points.map((p, i) => (i === m ? { ...p, ...to } : p)) }))
  const move = (m: number, at: Spot) => withPoint(m, { at_mm: [at[0], at[1]] })
  const bow = (m: number, bow_mm: number) => withPoint(m, { bow_mm })

  const snap = roundLength(2 / scale) / 2
  const near = (v: number) => Number((Math.round(v / snap) * snap).toFixed(4))
  const change = (what: Held, e: PointerEvent) => {
    const box = svg.current?.getBoundingClientRect()
    if (!box) return null
    const at: Spot = [(e.clientX - box.left) / scale + low[0], (height - (e.clientY - box.top)) / scale + low[1]]
    if (what.what === 'point') return move(what.n, [near(at[0]), near(at[1])])
    if (what.what === 'arc') return bow(what.n, near(bowTo(points, what.n, at)))
    return set((s) => ({ ...s, axis_mm: near(at[0]) }))
  }
  const grip = (what: Held) => ({
    onPointerDown: (e: PointerEvent) => {
      // What is being typed belongs to the point before.
      if (document.activeElement instanceof HTMLInputElement) document.activeElement.blur()
      e.currentTarget.setPointerCapture(e.pointerId)
      if (what.what !== 'axis') setChosen(what.n)
      setHeld({ held: what, frame: { low, scale }, from: [e.clientX, e.clientY], moved: false })
    },
    onPointerMove: (e: PointerEvent) => {
      if (!held) return
      // A click chooses and moves nothing.
      const moved = held.moved || Math.hypot(e.clientX - held.from[0], e.clientY - held.from[1]) > 3
      if (moved && !held.moved) setHeld({ ...held, moved })
      const next = moved && change(held.held, e)
      if (next) preview(next)
    },
    onPointerUp: (e: PointerEvent) => {
      const next = held?.moved && change(held.held, e)
      setHeld(null)
      if (next) edit(next)
    },
  })
  const remove = () => {
    edit(set((s) => ({ ...s, points: s.points.filter((_, i) => i !== n) })))
    setChosen(Math.max(0, n - 1))
  }
  const keys = (e: KeyboardEvent) => {
    const by = { ArrowLeft: [-1, 0], ArrowRight: [1, 0], ArrowUp: [0, 1], ArrowDown: [0, -1] }[e.key]
    if (e.key === 'Delete' && points.length > 3) remove()
    else if (by && point) edit(move(n, [near(spot(point)[0] + (by[0] ?? 0) * snap), near(spot(point)[1] + (by[1] ?? 0) * snap)]))
    else return
    e.preventDefault()
  }

  const ruler = roundLength(60 / scale)
  const axis = place([shape.axis_mm, 0])[0]
  return (
    <>
      <svg ref={svg} className="drawing profile" width={width} height={height} role="group" aria-label="Profile" tabIndex={0} onKeyDown={keys}>
        <path className={shape.sheet ? 'area open' : 'area'} d={path(points, place, scale, shape.sheet)} />
        <g className="axis" aria-label="Axis" {...grip({ what: 'axis' })}>
          <line x1={axis} x2={axis} y1={0} y2={height} />
          <rect x={axis - 6} y={0} width={12} height={height} />
        </g>
        {points.slice(0, shape.sheet ? -1 : undefined).map((_, m) => {
          const [x, y] = place(middle(points, m))
          return <rect key={m} className="arc" aria-label={`Line after point ${m + 1}`} x={x - 4} y={y - 4} width={8} height={8} transform={`rotate(45 ${x} ${y})`} {...grip({ what: 'arc', n: m })} />
        })}
        {points.map((p, m) => {
          const [x, y] = place(spot(p))
          return <circle key={m} className={m === n ? 'point chosen' : 'point'} aria-label={`Point ${m + 1}`} cx={x} cy={y} r={5.5} {...grip({ what: 'point', n: m })} />
        })}
        <g className="ruler">
          <line x1={width - 10 - ruler * scale} x2={width - 10} y1={height - 8} y2={height - 8} />
          <text x={width - 10} y={height - 12} textAnchor="end">
            {ruler} mm
          </text>
          <text x={Math.min(axis + 8, width - 40)} y={14}>
            axis
          </text>
        </g>
      </svg>
      {point && (
        <div className="editor pointfields">
          <div className="line">
            <b>
              Point {n + 1} of {points.length}
            </b>
            <span>
              <Button size="small" disabled={points.length >= 200} onClick={() => (edit(set((s) => ({ ...s, points: split(s.points, n) }))), setChosen(n + 1))}>
                Add after
              </Button>{' '}
              <Button size="small" disabled={points.length <= 3} onClick={remove}>
                Remove
              </Button>
            </span>
          </div>
          <NumberLine label="From the axis" value={spot(point)[0] - shape.axis_mm} unit="mm" onSet={(v) => edit(move(n, [v + shape.axis_mm, spot(point)[1]]))} />
          <NumberLine label="Height" value={spot(point)[1]} unit="mm" onSet={(v) => edit(move(n, [spot(point)[0], v]))} />
          <NumberLine label="Arc to the next, bow" value={point.bow_mm} unit="mm" onSet={(v) => edit(bow(n, v))} />
        </div>
      )}
      <SwitchLine label="Open, as a sheet" checked={shape.sheet} onChange={(sheet) => edit(set((s) => ({ ...s, sheet })))} />
      <NumberLine label="Axis at" value={shape.axis_mm} unit="mm" onSet={(axis_mm) => edit(set((s) => ({ ...s, axis_mm })))} />
      <Value label="Steps around" value={shape.steps} unit="" range={[3, 180]} digits={0} still={(v) => v < 3} change={(steps) => set((s) => ({ ...s, steps: Math.round(steps) }))} />
    </>
  )
}
