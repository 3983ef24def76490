import type { ShapeOf } from './shapeRules'
import type { Spot } from './useDrawing'

export type Revolved = ShapeOf<'revolved'>
export type ProfilePoint = Revolved['points'][number]

export const spot = (p: ProfilePoint): Spot => [p.at_mm[0] ?? 0, p.at_mm[1] ?? 0]

/** The point in the middle of the line that starts at a point, on its arc. */
export function middle(points: ProfilePoint[], n: number): Spot {
  const [a, b, bow] = line(points, n)
  const [dx, dy, chord] = way(a, b)
  return [(a[0] + b[0]) / 2 + (dy / chord) * bow, (a[1] + b[1]) / 2 - (dx / chord) * bow]
}

/** How far the arc of a line bows out to pass a place. */
export function bowTo(points: ProfilePoint[], n: number, [x, y]: Spot): number {
  const [a, b] = line(points, n)
  const [dx, dy, chord] = way(a, b)
  return ((x - (a[0] + b[0]) / 2) * dy - (y - (a[1] + b[1]) / 2) * dx) / chord
}

/** The profile as an SVG path, closed or open; `place` gives a point's place on screen, where up is less. */
export function path(
  points: ProfilePoint[],
  place: (s: Spot) => Spot,
  scale: number,
  open: boolean,
): string {
  const steps = points.slice(0, open ? -1 : undefined).map((_, n) => {
    const [a, b, bow] = line(points, n)
    const end = place(b).join(' ')
    if (Math.abs(bow) < 1e-6) return `L ${end}`
    const half = way(a, b)[2] / 2
    const radius = ((half * half + bow * bow) / (2 * Math.abs(bow))) * scale
    return `A ${radius} ${radius} 0 ${Math.abs(bow) > half ? 1 : 0} ${bow > 0 ? 0 : 1} ${end}`
  })
  return points[0]
    ? `M ${place(spot(points[0])).join(' ')} ${steps.join(' ')}${open ? '' : ' Z'}`
    : ''
}

/** A point in the middle of a line; the halves of an arc stay on it. */
export function split(points: ProfilePoint[], n: number): ProfilePoint[] {
  const [a, b, bow] = line(points, n)
  const half = way(a, b)[2] / 2
  // Half the arc bows by the sagitta of half its angle.
  const angle = Math.atan(Math.abs(bow) / half)
  const radius = bow === 0 ? 0 : (half * half + bow * bow) / (2 * Math.abs(bow))
  const part = Math.sign(bow) * radius * (1 - Math.cos(angle))
  const at = middle(points, n)
  return points.flatMap((p, m) =>
    m === n
      ? [
          { ...p, bow_mm: part },
          { at_mm: [at[0], at[1]], bow_mm: part },
        ]
      : [p],
  )
}

function line(points: ProfilePoint[], n: number): [Spot, Spot, number] {
  const [a, b] = [points[n], points[(n + 1) % points.length]]
  return a && b ? [spot(a), spot(b), a.bow_mm] : [[0, 0], [1, 0], 0]
}

function way(a: Spot, b: Spot): [number, number, number] {
  const [dx, dy] = [b[0] - a[0], b[1] - a[1]]
  return [dx, dy, Math.hypot(dx, dy) || 1]
}
