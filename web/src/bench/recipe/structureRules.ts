import type { Options, Recipe } from '../../api/client'
import { useOptions } from '../../api/useOptions'
import { count, plain } from '../../shared/format'
import { withFilling, type Filling } from './filling'
import { seedsOf, type Form } from './patternRules'

export type S = Recipe['structure']
export type Choice = Options['structures'][number]
export type Kind = Choice['kind']
export type Family = Choice['family']
export type Triple = [number, number, number]

export const families: { value: Family; label: string }[] = [
  { value: 'surfaces', label: 'Surfaces' },
  { value: 'cells', label: 'Struts' },
  { value: 'extruded', label: 'Extruded' },
  { value: 'seeded', label: 'Seeded' },
]

export const forms: Record<Form, string> = {
  walls: 'walls',
  network: 'network',
  other_network: 'network, other side',
}

export const withStructure = (change: Partial<S> | ((s: S) => Partial<S>)) =>
  withFilling((f) => ({
    structure: { ...f.structure, ...(typeof change === 'function' ? change(f.structure) : change) },
  }))
export const withJoins = (change: Partial<Recipe['joins']>) =>
  withFilling((f) => ({ joins: { ...f.joins, ...change } }))
export const put = (list: readonly number[], i: number, v: number) =>
  list.map((old, j) => (i === j ? v : old)) as Triple

/** Kinds with their titles, as the server knows them. */
export function useChoices(): Choice[] {
  const { data } = useOptions()
  return data?.structures ?? []
}

export const choiceOf = (choices: Choice[], kind: Kind) => choices.find((c) => c.kind === kind)

/** Struts from a file are as they come. */
export const hasSize = (choice?: Choice) => choice?.kind !== 'own_struts'

export function cells(s: S) {
  const seeds = seedsOf(s.pattern)
  if (s.pattern.kind === 'own_struts')
    return `${count(s.pattern.own.struts.length)} from ${s.pattern.own.name}`
  if (seeds?.layout === 'surface') return 'points on the surface'
  if (seeds?.count) return `${count(seeds.count)} points`
  const [x = 0, y = 0, z = 0] = s.cell_mm
  return x === y && y === z
    ? `${plain(x)} mm cells`
    : `${plain(x)} × ${plain(y)} × ${plain(z)} mm cells`
}

/** Rotations that bring the walls of extruded kinds along an axis of the part. */
export const along: Record<'x' | 'y' | 'z', Triple> = { x: [0, 90, 0], y: [90, 0, 0], z: [0, 0, 0] }

/** Where a small picture of a kind is found. */
export function pictureOf(kind: Kind, r: Filling, thickness: number) {
  const { pattern, cell_mm } = r.structure
  const [x = 1, y = 1, z = 1] = cell_mm
  const q = new URLSearchParams({
    x: String(x),
    y: String(y),
    z: String(z),
    thickness: thickness.toPrecision(3),
    blend: String(r.joins.blend_mm),
    node: String(r.joins.node_mm),
    ...(pattern.kind === 'surface' ? { form: pattern.form } : {}),
    ...(kind === 'own_cell' && pattern.kind === kind
      ? { own: JSON.stringify(pattern.own.struts) }
      : {}),
  })
  return `/api/structures/${kind}/picture?${q}`
}
