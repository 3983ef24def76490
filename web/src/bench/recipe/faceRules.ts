import type { FaceInfo, FaceMark } from '../../api/client'
import { same } from './zoneRules'

/** Numbers of the faces that marks describe. */
export const numbersOf = (list: readonly FaceInfo[], marks: readonly FaceMark[]) => list.flatMap((f, n) => (marks.some((m) => same(m, f.mark)) ? [n] : []))

/** The faces that hang together with some over edges that turn by no more than an angle. */
export function grown(list: readonly FaceInfo[], from: readonly number[], degrees: number): number[] {
  const found = new Set(from)
  const next = [...from]
  for (let n = next.pop(); n !== undefined; n = next.pop()) {
    for (const { face, turn_deg } of list[n]?.beside ?? []) {
      if (turn_deg <= degrees && !found.has(face)) {
        found.add(face)
        next.push(face)
      }
    }
  }
  return [...found]
}

/** The faces that share an edge with some: those along the loops of edges around them. */
export function around(list: readonly FaceInfo[], from: readonly number[]): number[] {
  return [...new Set([...from, ...from.flatMap((n) => list[n]?.beside.map((b) => b.face) ?? [])])]
}
