import { BufferAttribute, BufferGeometry, Color, LineBasicMaterial, LineSegments } from 'three'
import { scale } from '../../theme/tokens'

const lengthOf = (ends: Float32Array, at: number) =>
  Math.hypot((ends[at + 3] ?? 0) - (ends[at] ?? 0), (ends[at + 4] ?? 0) - (ends[at + 1] ?? 0), (ends[at + 5] ?? 0) - (ends[at + 2] ?? 0))

/** Shortest and longest strut. mm. */
export function lengthRange(ends: Float32Array): [number, number] {
  let [low, high] = [Infinity, 0]
  for (let at = 0; at < ends.length; at += 6) {
    const l = lengthOf(ends, at)
    low = Math.min(low, l)
    high = Math.max(high, l)
  }
  return ends.length > 0 ? [low, high] : [0, 0]
}

/** Lines from end to end, coloured by length on the ordered scale. */
export function skeletonLines(ends: Float32Array): LineSegments {
  const stops = scale.map((c) => new Color(c))
  const [low, high] = lengthRange(ends)
  const colours = new Float32Array(ends.length)
  const colour = new Color()
  for (let at = 0; at < ends.length; at += 6) {
    const t = high > low * 1.001 ? ((lengthOf(ends, at) - low) / (high - low)) * (stops.length - 1) : 0
    const n = Math.min(Math.floor(t), stops.length - 2)
    colour.lerpColors(stops[n] ?? colour, stops[n + 1] ?? colour, t - n)
    colour.toArray(colours, at)
    colour.toArray(colours, at + 3)
  }
  const geometry = new BufferGeometry()
  geometry.setAttribute('position', new BufferAttribute(ends, 3))
  geometry.setAttribute('color', new BufferAttribute(colours, 3))
  return new LineSegments(geometry, new LineBasicMaterial({ vertexColors: true }))
}
