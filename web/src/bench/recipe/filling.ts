import type { Recipe, RunInfo } from '../../api/client'
import { useBench } from '../state'
import { filledAt, ownOf, withZone } from './zoneRules'

/** A structure with its thickness: what fills the part, or a zone in its own way. */
export type Filling = Pick<Recipe, 'structure' | 'thicken' | 'joins' | 'gradings'>

/** The filling that the steps Structure and Thicken work on: the part's where the zone has none of its own. */
export const fillingOf = (r: Recipe, zone: number | null): Filling => ownOf(r, zone) ?? r

/** The filling of a recipe that is worked on. */
export const workedOn = (r: Recipe) => fillingOf(r, useBench.getState().filled)

/** Changes the filling that is worked on. */
export const withFilling =
  (change: (f: Filling) => Partial<Filling>) =>
  (r: Recipe): Recipe => {
    const at = useBench.getState().filled
    const own = ownOf(r, at)
    if (at === null || !own) return { ...r, ...change(r) }
    return withZone(at, (z) => ({ ...z, own: { ...own, ...change(own) } }))(r)
  }

/** What a run found of it. */
export const filledOf = (info: RunInfo | undefined, zone: number | null) =>
  (zone === null ? null : info?.linked.own[zone]) ?? info?.linked

/** Which of all fillings a zone's own is, or the part's. */
export const fillingNumber = (r: Recipe, zone: number | null) =>
  zone === null ? 0 : 1 + r.zones.list.slice(0, zone).filter((_, n) => ownOf(r, n)).length

/** The filling that is worked on, with what the last run found of it. */
export function useFilling() {
  const project = useBench((b) => b.project)
  const recipe = useBench((b) => b.recipe)
  const picture = useBench((b) => b.picture)
  const filled = useBench((b) => b.filled)
  if (!project || !recipe) return null
  const at = filledAt(recipe, filled)
  return {
    project,
    recipe,
    picture,
    at,
    filling: fillingOf(recipe, at),
    found: filledOf(picture?.info, at),
  }
}
