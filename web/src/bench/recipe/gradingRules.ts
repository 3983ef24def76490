import type { FaceMark, Grading, GradingSource, Recipe, Source, Zone } from '../../api/client'
import { plain } from '../../shared/format'
import { useBench } from '../state'
import { withFilling, workedOn, type Filling } from './filling'
import { rowsOf } from './patternRules'
import { faces as counted, nextId } from './zoneRules'

export type GradedValue = Grading['of']
export type Given = Grading['given']
export type Rule = Grading['rule']
export type SourceKind = Source['kind']
export type Spot = [number, number]

/** What sources are called, and what of a place they tell. */
export const sourceNames: Record<SourceKind, string> = {
  faces: 'Distance from faces',
  rim: 'Distance from edges around faces',
  surface: "Distance from the part's surface",
  zone: 'Distance from a zone',
  body: 'Distance from a body',
  solids: 'Distance from all kept solid',
  direction: 'Along a direction',
  axis: 'Distance from an axis',
  line: 'Distance from a line',
  points: 'Values at points',
  table: 'Numbers from a file',
  grading: 'Another grading',
}

export const givenNames: Record<Given, string> = {
  value: 'mm',
  percent: '%',
  added: '± mm',
}

export const ruleNames: Record<Rule, string> = {
  least: 'The least',
  greatest: 'The greatest',
  mean: 'The mean',
  product: 'The product',
  sum: 'The sum',
}

export const unitOf = ({ of, given }: Pick<Grading, 'of' | 'given'>) =>
  of === 'density' || given === 'percent' ? '%' : 'mm'

/** Unit of a source's numbers; none where they are of a file. */
export type Across = 'mm' | ''
export const acrossOf = (from: Source): Across => (from.kind === 'table' ? '' : 'mm')

export const gradingsOf = (f: Filling): readonly Grading[] => f.gradings ?? []

/** The value that is graded, as the structure calls it. */
export const valueName = (of: GradedValue, walls: boolean) =>
  of === 'cell_size'
    ? 'Cell size'
    : of === 'density'
      ? 'Relative density'
      : walls
        ? 'Wall thickness'
        : 'Strut thickness'

/** Can the cells of a filling change their size from place to place? */
export const sizesByPlace = ({ structure: { pattern } }: Filling) =>
  !['planar_voronoi', 'own_struts', 'own_mesh'].includes(pattern.kind) && rowsOf(pattern) === null

/** The value in mm where a grading gives `v` and the value's own step sets `set` mm. */
const inMm = (given: Given, v: number, set: number) =>
  given === 'percent' ? (v / 100) * set : given === 'added' ? set + v : v

/** What a grading gives for a value in mm. */
const asGiven = (given: Given, mm: number, set: number) =>
  given === 'percent' ? (100 * mm) / set : given === 'added' ? mm - set : mm

/** What the value's own step sets now, in mm or percent, where a run `found` so much. */
export const setBy = (of: GradedValue, f: Filling, found: Found | undefined) => {
  const cell = Math.min(...f.structure.cell_mm)
  if (of === 'cell_size') return cell
  return of === 'density' ? (found?.density_percent ?? 20) : (found?.thickness_mm ?? cell / 8)
}

type Found = { thickness_mm: number; density_percent: number }

/** Least and greatest cell size that a grading names; `fixed` where the cell size has no part in it. */
export function gradedSizes(f: Filling): { mm: Spot; fixed: boolean } | null {
  const grading = sizesByPlace(f)
    ? gradingsOf(f).find((g) => g.of === 'cell_size' && g.sources.length > 0)
    : undefined
  if (!grading) return null
  const { given } = grading
  const set = setBy('cell_size', f, undefined)
  const named = grading.sources.flatMap(valuesOf).map((v) => inMm(given, v, set))
  if (named.length === 0) return null
  return { mm: [Math.min(...named), Math.max(...named)], fixed: given === 'value' }
}

/** Size of the smallest cells over that of the largest. */
export function leastShare(f: Filling): number {
  const [least, most] = gradedSizes(f)?.mm ?? [1, 1]
  return least / most
}

/** The values that a source names. */
function valuesOf({ curve, from }: GradingSource): number[] {
  if (curve) return curve.points.map((p) => p[1] ?? 0)
  return from.kind === 'points' ? from.points.map((p) => p.value) : []
}

/** A source with other values at its points and along its curve. */
const withValues = (s: GradingSource, to: (v: number) => number): GradingSource => ({
  ...s,
  from:
    s.from.kind === 'points'
      ? { ...s.from, points: s.from.points.map((p) => ({ ...p, value: to(p.value) })) }
      : s.from,
  curve: s.curve && {
    ...s.curve,
    points: s.curve.points.map((p) => [p[0] ?? 0, to(p[1] ?? 0)] as Spot),
  },
})

/** The same values given in another way, by what the value's own step sets now, in mm. */
export const withGiven = (id: number, given: Given, set: number) =>
  withGrading(id, (g) => {
    const to = (v: number) => Number(asGiven(given, inMm(g.given, v, set), set).toPrecision(3))
    return { given, sources: g.sources.map((s) => withValues(s, to)) }
  })

/** Changes the gradings of the filling that is worked on. */
const withGradings = (change: (all: readonly Grading[]) => Grading[]) =>
  withFilling((f) => ({ gradings: change(gradingsOf(f)) }))

export const withGrading = (id: number, change: (g: Grading) => Partial<Grading>) =>
  withGradings((all) => all.map((g) => (g.id === id ? { ...g, ...change(g) } : g)))

export const withoutGrading = (id: number) => withGradings((all) => all.filter((g) => g.id !== id))

export const withSource = (id: number, n: number, change: Partial<GradingSource>) =>
  withGrading(id, (g) => ({
    sources: g.sources.map((s, i) => (i === n ? { ...s, ...change } : s)),
  }))

export const withoutSource = (id: number, n: number) =>
  withGrading(id, (g) => ({ sources: g.sources.filter((_, i) => i !== n) }))

export const withSourceAdded = (id: number, source: GradingSource) =>
  withGrading(id, (g) => ({ sources: [...g.sources, source] }))

/** The faces of a source of the grading that is open. */
export function sourceFaces(r: Recipe, n: number): readonly FaceMark[] | null {
  const from = openGrading(r)?.sources[n]?.from
  return from?.kind === 'faces' || from?.kind === 'rim' ? from.faces : null
}

export const withSourceFaces = (n: number, faces: FaceMark[]) => (r: Recipe) => {
  const open = openGrading(r)
  const kind = open?.sources[n]?.from.kind === 'rim' ? 'rim' : 'faces'
  return open ? withSource(open.id, n, { from: { kind, faces } })(r) : r
}

/** Moves a point of the open grading's values. */
export const withPointAt = (n: number, place_mm: [number, number, number]) => (r: Recipe) => {
  const open = openGrading(r)
  const of = open?.sources.findIndex((s) => s.from.kind === 'points') ?? -1
  const from = open?.sources[of]?.from
  if (!open || from?.kind !== 'points') return r
  const points = from.points.map((p, i) => (i === n ? { ...p, place_mm } : p))
  return withSource(open.id, of, { from: { ...from, points } })(r)
}

/** The grading of a number, of a filling. */
export const gradingOf = (f: Filling, id: number | null) =>
  gradingsOf(f).find((g) => g.id === id) ?? null

/** The grading that is open, of the filling that is worked on. */
export const openGrading = (r: Recipe) => gradingOf(workedOn(r), useBench.getState().grading)

/** How the first values of a grading are given: where a density leads, as shares of what it leads to. */
export const firstGiven = (of: GradedValue, f: Filling): Given =>
  of === 'thickness' && f.thicken.lead === 'relative_density' ? 'percent' : 'value'

/** First values near a source and away from it, where the value's own step sets so much, in mm. */
export function firstEnds(of: GradedValue, given: Given, set: number): Spot {
  const shares = of === 'cell_size' ? [0.5, 1] : [1.6, 0.8]
  return shares.map((s) => Number(asGiven(given, s * set, set).toPrecision(2))) as Spot
}

/** A source of a kind with first values; `across` is how far the part reaches. mm. */
export function firstSource(
  kind: SourceKind,
  [near, far]: Spot,
  place: { middle: readonly number[]; low: number; high: number; across: number },
  names: { zone?: Zone; body?: string; other?: number },
): GradingSource {
  const round = (v: number) => Number(v.toPrecision(2))
  const [x = 0, y = 0, z = 0] = place.middle.map((v) => Number(v.toFixed(1)))
  const over = (from: number, to: number) => ({
    points: [
      [from, near],
      [to, far],
    ] as Spot[],
    smooth: true,
  })
  const fade = over(0, round(place.across / 3))
  switch (kind) {
    case 'points':
      return { from: { kind, points: [{ place_mm: [x, y, z], value: near }] } }
    case 'grading':
      return { from: { kind, id: names.other ?? 0 } }
    case 'direction':
      return {
        from: { kind, from_mm: [x, y, Number(place.low.toFixed(1))], along: [0, 0, 1] },
        curve: over(0, round(place.high - place.low)),
      }
    case 'axis':
      return { from: { kind, through_mm: [x, y, z], along: [0, 0, 1] }, curve: fade }
    case 'line':
      return {
        from: {
          kind,
          points_mm: [
            [x, y, z],
            [Number((x + place.across / 4).toFixed(1)), y, z],
          ],
        },
        curve: fade,
      }
    case 'faces':
    case 'rim':
      return { from: { kind, faces: [] }, curve: fade }
    case 'zone':
      return { from: { kind, id: names.zone?.id ?? 0 }, curve: fade }
    case 'body':
      return { from: { kind, name: names.body ?? '' }, curve: fade }
    case 'table':
      return {
        from: { kind, table: { name: '', column: '', places_mm: [], values: [] } },
        curve: over(0, 1),
      }
    case 'surface':
    case 'solids':
      return { from: { kind }, curve: fade }
  }
}

/** A grading with one source, and a number of its own. */
export const firstGrading = (f: Filling, of: GradedValue, source: GradingSource): Grading => ({
  id: nextId(gradingsOf(f)),
  name: '',
  of,
  given: firstGiven(of, f),
  rule: 'least',
  sources: [source],
})

export const withGradingAdded = (grading: Grading) => withGradings((all) => [...all, grading])

/** What a source is, in a few words. */
export function sourceWords(from: Source, r: Recipe): string {
  switch (from.kind) {
    case 'faces':
      return from.faces.length === 0 ? 'no face yet' : counted(from.faces.length)
    case 'rim':
      return from.faces.length === 0
        ? 'no face yet'
        : `the edges around ${counted(from.faces.length)}`
    case 'surface':
      return 'the surface'
    case 'zone':
      return r.zones.list.find((z) => z.id === from.id)?.name ?? 'a zone that is gone'
    case 'body':
      return from.name || 'no body yet'
    case 'solids':
      return 'what is kept solid'
    case 'direction':
      return `${axisName(from.along)} = ${plain(dot(from.from_mm, from.along))} mm`
    case 'axis':
      return `an axis along ${axisName(from.along)}`
    case 'line':
      return `a line of ${from.points_mm.length} points`
    case 'points':
      return from.points.length === 1 ? 'one point' : `${from.points.length} points`
    case 'table':
      return from.table.column || 'no file yet'
    case 'grading':
      return 'another grading'
  }
}

const dot = (a: readonly number[], b: readonly number[]) => {
  const length = Math.hypot(...b) || 1
  return a.reduce((sum, v, i) => sum + (v * (b[i] ?? 0)) / length, 0)
}

export function axisName(along: readonly number[]) {
  const names = ['x', 'y', 'z']
  const n = along.findIndex((v) => Math.abs(v) > 0)
  const only = along.filter((v) => v !== 0).length === 1
  return only ? `${(along[n] ?? 0) < 0 ? '−' : ''}${names[n] ?? ''}` : 'a direction'
}

/** One source as it reads: values at both ends of its curve, from what, over which distance. */
export function sourceSentence({ from, curve }: GradingSource, unit: string, r: Recipe): string {
  const words = sourceWords(from, r)
  const values = (v: number | undefined) => `${plain(Number((v ?? 0).toFixed(2)))} ${unit}`
  if (from.kind === 'points') {
    const [first, ...more] = from.points.map((p) => p.value)
    if (more.length === 0) return `${values(first)} everywhere`
    const all = [first ?? 0, ...more]
    return `${values(Math.min(...all))} to ${values(Math.max(...all))} at ${words}`
  }
  const [a, b] = [curve?.points[0], curve?.points.at(-1)]
  if (!a || !b) return words
  if (a === b) return `${values(a[1])} everywhere`
  const verb = (b[1] ?? 0) < (a[1] ?? 0) ? 'falling' : 'rising'
  if (from.kind === 'table') {
    const at = (v: number | undefined) => plain(Number((v ?? 0).toPrecision(3)))
    return `${values(a[1])} at ${at(a[0])} of ${words} ${verb} to ${values(b[1])} at ${at(b[0])}`
  }
  const way = plain(Number(((b[0] ?? 0) - (a[0] ?? 0)).toFixed(1)))
  return `${values(a[1])} at ${words} ${verb} to ${values(b[1])} over ${way} mm`
}

/** A grading as it reads. */
export function gradingSentence(g: Grading, walls: boolean, r: Recipe): string {
  const name = valueName(g.of, walls)
  if (g.sources.length === 0) return `${name}: no source, the same everywhere`
  const parts = g.sources.map((s) => sourceSentence(s, unitOf(g), r))
  const rule = parts.length > 1 ? `${ruleNames[g.rule].toLowerCase()} of ` : ''
  return `${name}: ${rule}${parts.join('; ')}`
}
