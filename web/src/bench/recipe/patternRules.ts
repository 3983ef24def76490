import { api, type Recipe } from '../../api/client'
import { withFilling, workedOn } from './filling'
import type { Kind, S } from './structureRules'

/** What a structure is made of, with the values that its family has. */
export type Pattern = S['pattern']
export type PatternOf<K extends Pattern['kind']> = Extract<Pattern, { kind: K }>
export type Seeds = PatternOf<'voronoi'>['seeds']
export type Clean = PatternOf<'voronoi'>['clean']
export type Form = PatternOf<'surface'>['form']

/** What becomes of struts before anybody has chosen. */
export const firstClean: Clean = {
  weld: 0.1,
  dead_ends: 'kept',
  least_left: 0,
  most_at_node: 0,
  keep_loose: false,
  curved: 0,
}

/** The kind as it is chosen: of a family with several kinds the one that is meant. */
export function kindOf(p: Pattern): Kind {
  if (p.kind === 'surface') return p.surface
  if (p.kind === 'cell') return p.cell
  return p.kind === 'extruded' ? p.walls : p.kind
}

export const seedsOf = (p: Pattern): Seeds | null => ('seeds' in p ? p.seeds : null)
/** Cells of struts, whose rows may bend. */
export const hasRows = (p: Pattern) => p.kind === 'cell' || p.kind === 'own_cell'
export const rowsOf = (p: Pattern) => (hasRows(p) ? (p.rows ?? null) : null)
/** What becomes of struts that are listed one by one; none where they are not. */
export const cleanOf = (p: Pattern): Clean | null =>
  'clean' in p ? p.clean : (rowsOf(p)?.clean ?? null)
export const randomOf = (p: Pattern): number | null =>
  p.kind === 'foam_sheet' ? p.random : (seedsOf(p)?.random ?? null)
/** Straight walls, which may stand on a face. */
export const isUpright = (p: Pattern) => p.kind === 'extruded' || p.kind === 'planar_voronoi'
export const uprightOf = (p: Pattern) => (isUpright(p) ? (p.upright ?? null) : null)

/** Changes the pattern of the filling that is worked on. */
export const withPattern = (change: (p: Pattern) => Pattern) =>
  withFilling((f) => ({ structure: { ...f.structure, pattern: change(f.structure.pattern) } }))

/** Changes a pattern of one kind; another stays as it is. */
export const withOf = <K extends Pattern['kind']>(kind: K, change: Partial<PatternOf<K>>) =>
  withPattern((p) => (p.kind === kind ? { ...p, ...change } : p))

export const withSeeds = (change: Partial<Seeds>) =>
  withPattern((p) => ('seeds' in p ? { ...p, seeds: { ...p.seeds, ...change } } : p))

export const withClean = (change: Partial<Clean>) =>
  withPattern((p) => {
    if ('clean' in p) return { ...p, clean: { ...p.clean, ...change } }
    return hasRows(p) && p.rows
      ? { ...p, rows: { ...p.rows, clean: { ...p.rows.clean, ...change } } }
      : p
  })

export const withRandom = (random: number) =>
  withPattern((p) => {
    if (p.kind === 'foam_sheet') return { ...p, random }
    return 'seeds' in p ? { ...p, seeds: { ...p.seeds, random } } : p
  })

/** Drawn cells and what comes from files would be lost where another kind takes their place. */
const isOwn = (p: Pattern) =>
  p.kind === 'own_cell' || p.kind === 'own_struts' || p.kind === 'own_mesh'

/** A pattern that was kept, to be chosen again. */
export const keptOf = <K extends Pattern['kind']>(r: Recipe, kind: K) =>
  (r.kept ?? []).find((p): p is PatternOf<K> => p.kind === kind) ?? null

/** Puts another pattern in the place of one: what is of one's own is kept, once of each kind. */
function put(r: Recipe, old: Pattern, next: Pattern): Recipe {
  const others = (r.kept ?? []).filter(
    (p) => p.kind !== next.kind && !(isOwn(old) && p.kind === old.kind),
  )
  return { ...r, kept: isOwn(old) && old.kind !== next.kind ? [...others, old] : others }
}

/** Gives the filling that is worked on another pattern. */
export const withNext =
  (next: Pattern) =>
  (r: Recipe): Recipe => {
    const { pattern } = workedOn(r).structure
    return withPattern(() => next)(put(r, pattern, next))
  }

/**
 * Another kind in the filling that is worked on: its first values, and what both kinds have. A drawn
 * cell is the one that was kept.
 */
export async function chosen(kind: Kind, recipe: Recipe) {
  const next = await api.pattern(kind, workedOn(recipe).structure.pattern)
  return (r: Recipe): Recipe => {
    if (next.kind !== 'own_cell') return withNext(next)(r)
    return withNext({ ...next, own: keptOf(r, 'own_cell')?.own ?? next.own })(r)
  }
}
