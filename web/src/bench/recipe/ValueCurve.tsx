import { Button, Dropdown } from 'antd'
import { useRef, useState, type KeyboardEvent, type PointerEvent } from 'react'
import type { GradingSource, Recipe } from '../../api/client'
import { edit, preview } from '../state'
import { DrawnPoint } from './DrawnPoint'
import type { Across, Spot } from './gradingRules'
import { SwitchLine } from './Lines'
import { NumberLine } from './NumberLine'
import { arrows } from './useDrawing'
import type { Spread } from './useSpread'

type Curve = NonNullable<GradingSource['curve']>

/** Share of the drawing by which a key moves a point. */
const KEY = 0.02
const [wide, high, left, bottom, edge] = [252, 128, 34, 22, 8]

/** Slopes of a smooth curve through points, as the core has them: level at both ends. */
function slopes(points: readonly Spot[]): number[] {
  return points.map((p, n) => {
    const [a, b] = [points[n - 1], points[n + 1]]
    if (!a || !b) return 0
    const [l, r] = [p[0] - a[0], b[0] - p[0]]
    const [s, t] = [(p[1] - a[1]) / l, (b[1] - p[1]) / r]
    return s * t <= 0 ? 0 : (3 * (l + r)) / ((2 * r + l) / s + (r + 2 * l) / t)
  })
}

/** The curve's value at a place. */
export function valueAt({ points, smooth }: Curve, x: number): number {
  const spots = points as Spot[]
  const n = spots.findIndex((p) => p[0] > x)
  const [a, b] = [spots[n - 1], spots[n]]
  if (n === 0) return spots[0]?.[1] ?? 0
  if (!a || !b) return spots.at(-1)?.[1] ?? 0
  const t = (x - a[0]) / (b[0] - a[0])
  if (!smooth) return a[1] + (b[1] - a[1]) * t
  const all = slopes(spots)
  const [u, v] = [(all[n - 1] ?? 0) * (b[0] - a[0]), (all[n] ?? 0) * (b[0] - a[0])]
  const d = b[1] - a[1]
  return a[1] + t * (u + t * (3 * d - 2 * u - v + t * (u + v - 2 * d)))
}

const short = (v: number) => Number(v.toPrecision(3))

/** A value by the number of a source: its points are pulled, typed, added and removed. */
export function ValueCurve({
  curve,
  unit,
  across,
  spread,
  limit,
  set,
}: {
  curve: Curve
  unit: string
  /** Unit of the source's numbers; none where they are of a file. */
  across: Across
  /** How these numbers are spread over the part. */
  spread: Spread | undefined
  /** A value that is marked, with its name. */
  limit: { value: number; name: string } | null
  set: (curve: Curve) => (r: Recipe) => Recipe
}) {
  const svg = useRef<SVGSVGElement>(null)
  const [chosen, setChosen] = useState(0)
  const [held, setHeld] = useState<{ n: number; frame: ReturnType<typeof frameOf> } | null>(null)
  const points = curve.points as Spot[]
  const n = Math.min(chosen, points.length - 1)
  const point = points[n]
  const frame = held?.frame ?? frameOf(points)
  const place = ([x, y]: Spot): Spot => [
    left + ((x - frame.x[0]) / (frame.x[1] - frame.x[0])) * (wide - left - edge),
    high - bottom - ((y - frame.y[0]) / (frame.y[1] - frame.y[0])) * (high - bottom - edge),
  ]
  const withPoints = (next: Spot[]) => set({ ...curve, points: next })
  /** Keeps the order of the points: a point stays between its neighbours. */
  const moved = (m: number, [x, y]: Spot): Spot[] => {
    const room = 1e-3 * (frame.x[1] - frame.x[0])
    const low = (points[m - 1]?.[0] ?? -Infinity) + room
    const most = (points[m + 1]?.[0] ?? Infinity) - room
    const to: Spot = [short(Math.min(Math.max(x, low), most)), short(y)]
    return points.map((p, i) => (i === m ? to : p))
  }
  const spotOf = (e: PointerEvent): Spot => {
    const box = svg.current?.getBoundingClientRect()
    const [px, py] = [e.clientX - (box?.left ?? 0), e.clientY - (box?.top ?? 0)]
    const share = (px - left) / (wide - left - edge)
    const up = (high - bottom - py) / (high - bottom - edge)
    return [
      frame.x[0] + share * (frame.x[1] - frame.x[0]),
      Math.max(
        frame.y[0] + up * (frame.y[1] - frame.y[0]),
        unit === '%' || frame.y[0] >= 0 ? 0 : -1e6,
      ),
    ]
  }
  const add = () => {
    const [a, b] = [points[n], points[n + 1] ?? points[n - 1]]
    if (!a) return
    const x = b ? (a[0] + b[0]) / 2 : a[0] + 10
    const next = [...points, [short(x), short(valueAt(curve, x))] as Spot].sort(
      (p, q) => p[0] - q[0],
    )
    edit(withPoints(next))
    setChosen(next.findIndex((p) => p[0] === short(x)))
  }
  const remove = () => {
    if (points.length < 2) return
    edit(withPoints(points.filter((_, i) => i !== n)))
    setChosen(Math.max(0, n - 1))
  }
  const keys = (e: KeyboardEvent) => {
    const step = arrows[e.key]
    if (e.key === 'Delete') remove()
    else if (step && point) {
      const [dx, dy] = [frame.x, frame.y].map(([low, most]) => KEY * (most - low)) as Spot
      edit(withPoints(moved(n, [point[0] + step[0] * dx, point[1] + step[1] * dy])))
    } else return
    e.preventDefault()
  }
  const reversed = () => {
    const values = points.map((p) => p[1]).reverse()
    edit(withPoints(points.map((p, i) => [p[0], values[i] ?? p[1]])))
  }
  const steps = 64
  const xs = Array.from(
    { length: steps + 1 },
    (_, i) => frame.x[0] + (i / steps) * (frame.x[1] - frame.x[0]),
  )
  const knots = curve.smooth ? xs : [frame.x[0], ...points.map((p) => p[0]), frame.x[1]]
  const path = knots
    .map((x) => place([x, valueAt(curve, x)]))
    .map(([x, y], i) => `${i ? 'L' : 'M'} ${x.toFixed(1)} ${y.toFixed(1)}`)
    .join(' ')
  const ticks = (range: Spot) => [range[0], (range[0] + range[1]) / 2, range[1]]
  return (
    <>
      <svg
        ref={svg}
        className="valuecurve"
        width={wide}
        height={high}
        role="group"
        aria-label="Value by distance"
        tabIndex={0}
        onKeyDown={keys}
      >
        {spread && (
          <g className="spread">
            {bars(spread, frame.x).map(({ from, to, share }) => {
              const [[x0], [x1]] = [place([from, 0]), place([to, 0])]
              const tall = share * 0.8 * (high - bottom - edge)
              return (
                <rect key={from} x={x0} y={high - bottom - tall} width={x1 - x0} height={tall} />
              )
            })}
          </g>
        )}
        {ticks(frame.y).map((v) => (
          <g key={`y${v}`}>
            <line x1={left} x2={wide - edge} y1={place([0, v])[1]} y2={place([0, v])[1]} />
            <text x={left - 4} y={place([0, v])[1] + 3} textAnchor="end">
              {short(v)}
            </text>
          </g>
        ))}
        {ticks(frame.x).map((v, i) => (
          <text
            key={`x${v}`}
            x={place([v, 0])[0]}
            y={high - 7}
            textAnchor={i === 0 ? 'start' : i === 2 ? 'end' : 'middle'}
          >
            {short(v)}
            {i === 2 && across && ` ${across}`}
          </text>
        ))}
        {limit && limit.value < frame.y[1] && limit.value > frame.y[0] && (
          <g className="limit">
            <line
              x1={left}
              x2={wide - edge}
              y1={place([0, limit.value])[1]}
              y2={place([0, limit.value])[1]}
            />
            <text x={wide - edge} y={place([0, limit.value])[1] - 3} textAnchor="end">
              {limit.name}
            </text>
          </g>
        )}
        <path d={path} />
        {points.map((p, m) => (
          <DrawnPoint
            key={m}
            n={m}
            at={place(p)}
            chosen={m === n}
            onPointerDown={(e) => {
              e.currentTarget.setPointerCapture(e.pointerId)
              setChosen(m)
              setHeld({ n: m, frame })
            }}
            onPointerMove={(e) => held?.n === m && preview(withPoints(moved(m, spotOf(e))))}
            onPointerUp={(e) => {
              if (held?.n !== m) return
              const next = moved(m, spotOf(e))
              setHeld(null)
              edit(withPoints(next))
            }}
          />
        ))}
      </svg>
      <div className="line">
        <Button size="small" onClick={add}>
          Add a point
        </Button>
        <Button size="small" type="text" onClick={remove} disabled={points.length < 2}>
          Remove it
        </Button>
        <Button size="small" type="text" onClick={reversed}>
          Reverse
        </Button>
      </div>
      <div className="line">
        <span className="label">Begin anew</span>
        <Dropdown
          trigger={['click']}
          menu={{
            items: Object.entries(starts).map(([key, { name }]) => ({ key, label: name })),
            onClick: ({ key }) => {
              setChosen(0)
              edit(withPoints(started(points, key as keyof typeof starts)))
            },
          }}
        >
          <Button size="small">Ready curves</Button>
        </Dropdown>
      </div>
      {point && points.length > 2 && (
        <>
          <NumberLine
            label={`Point ${n + 1} at`}
            unit={across}
            value={point[0]}
            onSet={(v) => edit(withPoints(moved(n, [v, point[1]])))}
          />
          <NumberLine
            label={`Value of point ${n + 1}`}
            unit={unit}
            value={point[1]}
            onSet={(v) => edit(withPoints(moved(n, [point[0], v])))}
          />
        </>
      )}
      <SwitchLine
        label="Without corners"
        checked={curve.smooth}
        onChange={(smooth) => edit(set({ ...curve, smooth }))}
      />
    </>
  )
}

/** Ends of the drawing's axes. */
/** Curves to begin with: shares of the greatest and the least value that a curve names, at both ends. */
const starts = {
  even: { name: 'Even', near: [1, 0], far: null },
  toward: { name: 'Greatest at the source', near: [1, 0], far: [0, 1] },
  away: { name: 'Greatest away from it', near: [0, 1], far: [1, 0] },
  nothing: { name: 'To nothing at the end', near: [1, 0], far: [0, 0] },
} as const

/** A ready curve over the same numbers, with the greatest and the least value there was. */
function started(points: readonly Spot[], key: keyof typeof starts): Spot[] {
  const { near, far } = starts[key]
  const values = points.map((p) => p[1])
  const most = Math.max(...values)
  const least = Math.min(...values)
  // An even curve, or one that ended in nothing, has no second value.
  const low = least < most && least !== 0 ? least : most / 2
  const value = ([high, lower]: readonly [number, number]) => short(high * most + lower * low)
  const [x0, x1] = [points[0]?.[0] ?? 0, points.at(-1)?.[0] ?? 0]
  const end = x1 > x0 ? x1 : x0 + 20
  return far ? [[x0, value(near)] as Spot, [end, value(far)] as Spot] : [[x0, value(near)]]
}

/** Classes of a spread within a range, each with its share of the fullest one. */
function bars({ range, percents }: NonNullable<Spread>, [low, most]: Spot) {
  const [least = 0, greatest = 1] = range
  const step = (greatest - least) / percents.length
  const full = Math.max(...percents)
  return percents
    .map((percent, n) => ({
      from: Math.max(least + n * step, low),
      to: Math.min(least + (n + 1) * step, most),
      share: percent / full,
    }))
    .filter(({ from, to, share }) => to > from && share > 0)
}

function frameOf(points: readonly Spot[]): { x: Spot; y: Spot } {
  const [xs, ys] = [points.map((p) => p[0]), points.map((p) => p[1])]
  const [x0, x1] = [Math.min(...xs), Math.max(...xs)]
  const room = Math.max(0.2 * (x1 - x0), 1)
  const top = Math.max(...ys, 0)
  const low = Math.min(...ys, 0)
  return { x: [Math.min(x0, 0), x1 + room], y: [low, top + Math.max(0.15 * (top - low), 1e-3)] }
}
