import type { ShapeOf } from './shapeRules'
import type { Spot } from './useDrawing'

export type Loft = ShapeOf<'loft'>
export type Section = Loft['sections'][number]

export const spotsOf = (s: Section): Spot[] => s.curve_mm.map((p) => [p[0] ?? 0, p[1] ?? 0])

/** Eight points around a section's rounded outline. */
export function pointsAround({
  size_mm: [x = 0, y = 0],
  round_percent,
}: Section): [number, number][] {
  // A corner of a rectangle, less what its rounding takes.
  const corner = 1 - (1 - Math.SQRT1_2) * (round_percent / 100)
  const ring: Spot[] = [
    [1, 0],
    [corner, corner],
    [0, 1],
    [-corner, corner],
    [-1, 0],
    [-corner, -corner],
    [0, -1],
    [corner, -corner],
  ]
  const mm = (v: number) => Number(v.toFixed(2))
  return ring.map(([u, v]) => [mm((u * x) / 2), mm((v * y) / 2)])
}

/** The points before, at, after and beyond a line of the curve; an open curve leaves its ends as if mirrored there. */
function four(points: readonly Spot[], n: number, open: boolean): [Spot, Spot, Spot, Spot] {
  const at = (i: number): Spot => points[(i + points.length) % points.length] ?? [0, 0]
  const beyond = (end: Spot, inner: Spot): Spot => [2 * end[0] - inner[0], 2 * end[1] - inner[1]]
  const [p, q] = [at(n), at(n + 1)]
  return [
    open && n === 0 ? beyond(p, q) : at(n - 1),
    p,
    q,
    open && n === points.length - 2 ? beyond(q, p) : at(n + 2),
  ]
}

/** The handles of the Bézier curve that is the centripetal Catmull–Rom curve between two of four points. */
function handles([a, b, c, d]: [Spot, Spot, Spot, Spot]): [Spot, Spot] {
  const root = (p: Spot, q: Spot) => Math.sqrt(Math.hypot(q[0] - p[0], q[1] - p[1])) || 1e-6
  const [r, s, t] = [root(a, b), root(b, c), root(c, d)]
  const mix = (i: 0 | 1): [number, number] => [
    (r * r * c[i] - s * s * a[i] + (2 * r * r + 3 * r * s + s * s) * b[i]) / (3 * r * (r + s)),
    (t * t * b[i] - s * s * d[i] + (2 * t * t + 3 * t * s + s * s) * c[i]) / (3 * t * (t + s)),
  ]
  const [x, y] = [mix(0), mix(1)]
  return [
    [x[0], y[0]],
    [x[1], y[1]],
  ]
}

/** The curve as an SVG path; `place` gives a point's place on screen. */
export function curvePath(
  points: readonly Spot[],
  open: boolean,
  place: (s: Spot) => Spot,
): string {
  const words = points.slice(0, open ? -1 : undefined).map((_, n) => {
    const around = four(points, n, open)
    return `C ${[...handles(around), around[2]].map((p) => place(p).join(' ')).join(', ')}`
  })
  return points[0] ? `M ${place(points[0]).join(' ')} ${words.join(' ')}${open ? '' : ' Z'}` : ''
}

/** One more point, on the curve after one of them. */
export function withPointAfter(
  points: readonly Spot[],
  n: number,
  open: boolean,
): [number, number][] {
  const last = open && n === points.length - 1
  const around = four(points, last ? n - 1 : n, open)
  const [, b, c] = around
  const [h, k] = handles(around)
  // After the end of an open curve as far again; elsewhere the curve's middle.
  const axis = (i: 0 | 1) =>
    Number((last ? 2 * c[i] - b[i] : (b[i] + 3 * h[i] + 3 * k[i] + c[i]) / 8).toFixed(2))
  return points.flatMap((p, m): [number, number][] =>
    m === n
      ? [
          [p[0], p[1]],
          [axis(0), axis(1)],
        ]
      : [[p[0], p[1]]],
  )
}
