import type { PatternOf } from './patternRules'

export type OwnCell = PatternOf<'own_cell'>['own']
export type Node = readonly [number, number, number]
export type Strut = readonly [Node, Node]

/** Steps of the raster along each side of a cell, as in the recipe. */
export const steps = 12

export const strutsOf = (c: OwnCell): Strut[] => c.struts.map((s) => [node(s[0]), node(s[1])])
export const cellOf = (struts: readonly Strut[]): OwnCell => ({
  struts: struts.map(([a, b]) => [[...a], [...b]]),
})

function node(v: readonly number[] | undefined): Node {
  return [v?.[0] ?? 0, v?.[1] ?? 0, v?.[2] ?? 0]
}

const mapped = ([a, b]: Strut, change: (v: number, axis: number) => number): Strut => [
  node(a.map(change)),
  node(b.map(change)),
]

/** Edges of the cube. */
export const cubeEdges: Strut[] = [0, 1, 2].flatMap((axis) =>
  [0, 1, 2, 3].map((n) => {
    const corner = [n & 1 ? steps : 0, n & 2 ? steps : 0]
    // The edge's own axis, then the two across it.
    const at = (v: number) =>
      node([0, 1, 2].map((i) => (i === axis ? v : corner[(i - axis + 2) % 3])) as number[])
    return [at(0), at(steps)] as const
  }),
)

/** Places of the cells around one, and its own. */
const around = [-steps, 0, steps]
export const repeats: Node[] = around.flatMap((z) =>
  around.flatMap((y) => around.map((x): Node => [x, y, z])),
)

export const shiftedBy = (s: Strut, by: Node): Strut => mapped(s, (v, axis) => v + (by[axis] ?? 0))

export const nodeName = (p: Node) => p.join(' ')
/** The same for a strut and its other way round. */
export const nameOf = (s: Strut) => s.map(nodeName).sort().join(' - ')

/** Mirrors of a strut in the middle planes that are asked for, itself first. */
export function mirrored(strut: Strut, planes: readonly boolean[]): Strut[] {
  const inPlane = (axis: number) => (s: Strut) => mapped(s, (v, i) => (i === axis ? steps - v : v))
  return distinct(
    planes.reduce<Strut[]>(
      (list, on, axis) => (on ? [...list, ...list.map(inPlane(axis))] : list),
      [strut],
    ),
  )
}

/** Each strut once. */
export function distinct(list: readonly Strut[]): Strut[] {
  return [...new Map(list.map((s) => [nameOf(s), s])).values()]
}

/** A point of view. */
export interface Eye {
  turn: number
  tilt: number
}

/** A place in the cube as seen: right, up, and toward the eye. */
export function seen(p: Node, { turn, tilt }: Eye): [number, number, number] {
  const [a, b, c] = node(p.map((v) => v - steps / 2))
  const [ct, st, cp, sp] = [Math.cos(turn), Math.sin(turn), Math.cos(tilt), Math.sin(tilt)]
  const [right, away] = [a * ct + b * st, -a * st + b * ct]
  return [right, c * cp + away * sp, c * sp - away * cp]
}
