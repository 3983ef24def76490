import {
  BufferAttribute,
  BufferGeometry,
  Color,
  Group,
  LineBasicMaterial,
  LineSegments,
  Points,
  PointsMaterial,
} from 'three'
import { inPicture, materials, scale, strutColours } from '../../theme/tokens'

/** Numbers of a strut: both its ends, and how it lies in the part. */
const STRIDE = 7

export type StrutColour = 'length' | 'state'

/** How struts lie in the part, in the order of their numbers. */
export const strutStates = [
  { label: 'Inside', colour: strutColours.inside },
  { label: 'Reaches the surface', colour: strutColours.surface },
  { label: 'On the surface', colour: strutColours.net },
  { label: 'Dead end', colour: strutColours.deadEnd },
] as const

const lengthOf = (s: Float32Array, at: number) =>
  Math.hypot(
    (s[at + 3] ?? 0) - (s[at] ?? 0),
    (s[at + 4] ?? 0) - (s[at + 1] ?? 0),
    (s[at + 5] ?? 0) - (s[at + 2] ?? 0),
  )

export const strutCount = (s: Float32Array) => s.length / STRIDE

/** Shortest and longest strut. mm. */
export function lengthRange(s: Float32Array): [number, number] {
  let [low, high] = [Infinity, 0]
  for (let at = 0; at < s.length; at += STRIDE) {
    const l = lengthOf(s, at)
    low = Math.min(low, l)
    high = Math.max(high, l)
  }
  return s.length > 0 ? [low, high] : [0, 0]
}

/** How many struts lie so, by state. */
export function stateCounts(s: Float32Array): number[] {
  const counts = strutStates.map(() => 0)
  for (let at = 6; at < s.length; at += STRIDE) counts[s[at] ?? 0] = (counts[s[at] ?? 0] ?? 0) + 1
  return counts
}

/** Lines from end to end, coloured by length on the ordered scale or by how they lie, with their nodes as dots. */
export class SkeletonLines extends Group {
  private readonly geometry = new BufferGeometry()

  constructor(s: Float32Array, by: StrutColour) {
    super()
    const stops = scale.map((c) => new Color(c))
    const states = strutStates.map((state) => new Color(state.colour))
    const [low, high] = lengthRange(s)
    const places = new Float32Array(strutCount(s) * 6)
    const colours = new Float32Array(places.length)
    const colour = new Color()
    for (let n = 0; n < strutCount(s); n++) {
      const at = n * STRIDE
      places.set(s.subarray(at, at + 6), 6 * n)
      if (by === 'state') {
        colour.copy(states[s[at + 6] ?? 0] ?? colour)
      } else {
        const t =
          high > low * 1.001 ? ((lengthOf(s, at) - low) / (high - low)) * (stops.length - 1) : 0
        const stop = Math.min(Math.floor(t), stops.length - 2)
        colour.lerpColors(stops[stop] ?? colour, stops[stop + 1] ?? colour, t - stop)
      }
      colour.toArray(colours, 6 * n)
      colour.toArray(colours, 6 * n + 3)
    }
    this.geometry.setAttribute('position', new BufferAttribute(places, 3))
    this.geometry.setAttribute('color', new BufferAttribute(colours, 3))
    this.add(new LineSegments(this.geometry, new LineBasicMaterial({ vertexColors: true })))
    this.add(
      new Points(
        this.geometry,
        new PointsMaterial({ vertexColors: true, size: 3, sizeAttenuation: false }),
      ),
    )
  }

  dispose() {
    this.geometry.dispose()
  }
}

export const cellColours = { points: inPicture.seedPoint, edges: materials.solid }

/** How many seed points there are, and how many of their cells lie whole in the part. */
export const cellCounts = (cells: Float32Array) => ({ points: cells[0] ?? 0, whole: cells[1] ?? 0 })

/** Seed points as dots, in the edges of their cells. */
export class CellLines extends Group {
  private readonly points = new BufferGeometry()
  private readonly edges = new BufferGeometry()

  constructor(cells: Float32Array) {
    super()
    const first = 2
    const end = first + 3 * cellCounts(cells).points
    this.points.setAttribute('position', new BufferAttribute(cells.subarray(first, end), 3))
    this.edges.setAttribute('position', new BufferAttribute(cells.subarray(end), 3))
    this.add(
      new LineSegments(
        this.edges,
        new LineBasicMaterial({ color: cellColours.edges, transparent: true, opacity: 0.6 }),
      ),
    )
    this.add(
      new Points(
        this.points,
        new PointsMaterial({ color: cellColours.points, size: 5, sizeAttenuation: false }),
      ),
    )
  }

  dispose() {
    this.points.dispose()
    this.edges.dispose()
  }
}
