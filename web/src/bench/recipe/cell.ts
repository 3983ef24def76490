import type { S } from './structureRules'

export type OwnCell = S['own_cell']
export type Node = readonly [number, number, number]
export type Strut = readonly [Node, Node]

/** Steps of the raster along each side of a cell, as in the recipe. */
export const steps = 12

export const strutsOf = (c: OwnCell): Strut[] => c.struts.map((s) => [node(s[0]), node(s[1])])
export const cellOf = (struts: readonly Strut[]): OwnCell => ({ struts: struts.map(([a, b]) => [[...a], [...b]]) })

function node(v: readonly number[] | undefined): Node {
  return [v?.[0] ?? 0, v?.[1] ?? 0, v?.[2] ?? 0]
}

/** The same for a strut and its other way round. */
export const nameOf = ([a, b]: Strut) => [a.join(' '), b.join(' ')].sort().join(' - ')

/** Mirrors of a strut in the middle planes that are asked for, itself first. */
export function mirrored(strut: Strut, planes: readonly boolean[]): Strut[] {
  const all = planes.reduce<Strut[]>((list, on, axis) => (on ? [...list, ...list.map((s) => s.map((p) => p.map((v, i) => (i === axis ? steps - v : v))) as unknown as Strut)] : list), [strut])
  return distinct(all)
}

/** Each strut once. */
export function distinct(list: readonly Strut[]): Strut[] {
  return [...new Map(list.map((s) => [nameOf(s), s])).values()]
}

/** A place in the cube from a point of view: right, up, and toward the eye. */
export interface Eye {
  turn: number
  tilt: number
}

export function seen([x, y, z]: readonly number[], { turn, tilt }: Eye): [number, number, number] {
  const [a, b, c] = [(x ?? 0) - steps / 2, (y ?? 0) - steps / 2, (z ?? 0) - steps / 2]
  const [ct, st, cp, sp] = [Math.cos(turn), Math.sin(turn), Math.cos(tilt), Math.sin(tilt)]
  const [right, away] = [a * ct + b * st, -a * st + b * ct]
  return [right, c * cp + away * sp, c * sp - away * cp]
}
