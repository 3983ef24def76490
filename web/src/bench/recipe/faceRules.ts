import type { FaceInfo, FaceMark, Recipe } from '../../api/client'
import { useBench, type Chosen } from '../state'
import { fillingOf } from './filling'
import { followedFaces, withFollowedFaces } from './followedRules'
import { sourceFaces, withSourceFaces } from './gradingRules'
import { same, withPockets, withSkin, withZone } from './zoneRules'

/** The faces of what is chosen, when it has some. */
export function facesOf(recipe: Recipe, chosen: Chosen | null): readonly FaceMark[] | null {
  if (!chosen) return null
  switch (chosen.of) {
    case 'pocket':
      return recipe.part.pockets?.[chosen.index]?.faces ?? null
    case 'skin':
      return recipe.zones.skins[chosen.index]?.faces ?? null
    case 'zone': {
      const place = recipe.zones.list[chosen.index]?.place
      return place && 'faces' in place ? place.faces : null
    }
    case 'source':
      return sourceFaces(recipe, chosen.index)
    default:
      return followedFaces(fillingOf(recipe, useBench.getState().filled).structure, chosen.of)
  }
}

export function withFaces(chosen: Chosen, faces: FaceMark[]): (r: Recipe) => Recipe {
  switch (chosen.of) {
    case 'pocket':
      return withPockets((all) => all.map((p, i) => (i === chosen.index ? { ...p, faces } : p)))
    case 'skin':
      return withSkin(chosen.index, (s) => ({ ...s, faces }))
    case 'zone':
      return withZone(chosen.index, (z) =>
        'faces' in z.place ? { ...z, place: { ...z.place, faces } } : z,
      )
    case 'source':
      return withSourceFaces(chosen.index, faces)
    default:
      return withFollowedFaces(chosen.of, faces)
  }
}

/** Numbers of the faces that marks describe. */
export const numbersOf = (list: readonly FaceInfo[], marks: readonly FaceMark[]) =>
  list.flatMap((f, n) => (marks.some((m) => same(m, f.mark)) ? [n] : []))

/** The faces that hang together with some over edges that turn by no more than an angle. */
export function grown(
  list: readonly FaceInfo[],
  from: readonly number[],
  degrees: number,
): number[] {
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
