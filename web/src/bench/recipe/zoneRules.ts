import type { FaceMark, Place, Pocket, Project, Recipe, Role, Skin, Zone } from '../../api/client'
import { plain } from '../../shared/format'

export const roleNames: Record<Exclude<Role, 'alongside'>, string> = {
  fill: 'Fill',
  keep_solid: 'Keep solid',
  keep_clear: 'Keep clear',
  reference: 'Reference',
}
/** A body can also leave as it came. */
export const bodyRoleNames: Record<Role, string> = { ...roleNames, alongside: 'Leave as it is' }
export const shapeNames: Record<Place['shape'], string> = {
  cylinder: 'Cylinder',
  box: 'Box',
  sphere: 'Sphere',
  faces: 'Faces',
}

type Triple = [number, number, number]
export const triple = (v: readonly number[]): Triple => [v[0] ?? 0, v[1] ?? 0, v[2] ?? 0]

/** Changes the zones of a recipe. */
export const withZones = (change: (z: Recipe['zones']) => Recipe['zones']) => (r: Recipe) => ({
  ...r,
  zones: change(r.zones),
})
export const withZone = (i: number, change: (z: Zone) => Zone) =>
  withZones((z) => ({ ...z, list: z.list.map((old, j) => (i === j ? change(old) : old)) }))
export const withSkin = (i: number, change: (s: Skin) => Skin) =>
  withZones((z) => ({ ...z, skins: z.skins.map((old, j) => (i === j ? change(old) : old)) }))

/** Changes what faces of the part enclose. */
export const withPockets =
  (change: (p: Pocket[]) => Pocket[]) =>
  (r: Recipe): Recipe => ({ ...r, part: { ...r.part, pockets: change(r.part.pockets ?? []) } })

/** What fills a zone of the list in its own way. */
export function ownOf(r: Recipe, zone: number | null) {
  const z = zone === null ? undefined : r.zones.list[zone]
  return z?.role === 'fill' ? (z.own ?? null) : null
}

/** The zone whose own filling is worked on; none for the part's. */
export const filledAt = (r: Recipe, zone: number | null) => (ownOf(r, zone) ? zone : null)

export const faces = (n: number) => (n === 1 ? '1 face' : `${n} faces`)

const alike = (a: readonly number[], b: readonly number[]) => a.every((v, i) => v === b[i])
export const same = (a: FaceMark, b: FaceMark) =>
  a.kind === b.kind &&
  a.area_mm2 === b.area_mm2 &&
  alike(a.place_mm, b.place_mm) &&
  alike(a.direction, b.direction)

/** A number that none of a list has. */
export const nextId = (list: readonly { id: number }[]) =>
  Math.max(0, ...list.map((one) => one.id)) + 1

/** Where a placed zone has its handle; none for one of faces. */
export function middle(place: Place): Triple | null {
  if ('faces' in place) return null
  if (place.shape !== 'cylinder') return triple(place.centre_mm)
  const [base, axis] = [triple(place.base_mm), triple(place.axis_mm)]
  return [base[0] + axis[0] / 2, base[1] + axis[1] / 2, base[2] + axis[2] / 2]
}

export function moved(place: Place, to: readonly number[]): Place {
  const from = middle(place)
  if (!from || 'faces' in place) return place
  const shift = (v: readonly number[]) =>
    v.map((c, i) => Number((c + (to[i] ?? 0) - (from[i] ?? 0)).toFixed(3)))
  return place.shape === 'cylinder'
    ? { ...place, base_mm: triple(shift(place.base_mm)) }
    : { ...place, centre_mm: triple(shift(place.centre_mm)) }
}

/** A zone's size in a word or two. */
export function extent(place: Place): string {
  if (place.shape === 'cylinder' || place.shape === 'sphere')
    return `⌀ ${plain(2 * place.radius_mm)} mm`
  if (place.shape === 'box') return `${place.size_mm.map(plain).join(' × ')} mm`
  return `${faces(place.faces.length)}, ${plain(place.depth_mm)} mm`
}

/** A drain hole into the part from a place of its surface, of the size that the server gives. */
export function drainHole(
  { drain }: Project,
  recipe: Recipe,
  place: readonly number[],
  outward: readonly number[],
): Zone {
  const above = 1
  const short = (v: number) => Number(v.toFixed(3))
  return {
    id: nextId(recipe.zones.list),
    name: `Drain hole ${recipe.zones.list.filter((z) => z.name.startsWith('Drain hole')).length + 1}`,
    role: 'keep_clear',
    place: {
      shape: 'cylinder',
      base_mm: triple(place.map((p, i) => short(p + above * (outward[i] ?? 0)))),
      axis_mm: triple(outward.map((n) => short(-(above + drain.depth_mm) * n))),
      radius_mm: drain.radius_mm,
    },
  }
}

/** The middle of a part's box. mm. */
export const centreOf = ({ min_mm, size_mm }: Project['part']): Triple =>
  triple(min_mm.map((low, i) => low + (size_mm[i] ?? 0) / 2))

/**
 * A first zone of a shape, at a place of the part. It is filled as what is around it until it gets a structure of its
 * own.
 */
export function firstZone(
  shape: Place['shape'],
  at: readonly number[],
  project: Project,
  recipe: Recipe,
): Zone {
  const [min, size] = [triple(project.part.min_mm), triple(project.part.size_mm)]
  const centre_mm = triple(at)
  const r = Number(((Math.min(...size) * 3) / 16).toPrecision(2))
  const places: Record<Place['shape'], Place> = {
    cylinder: {
      shape: 'cylinder',
      base_mm: [centre_mm[0], centre_mm[1], min[2] - 1],
      axis_mm: [0, 0, size[2] + 2],
      radius_mm: r,
    },
    box: { shape: 'box', centre_mm, size_mm: [2 * r, 2 * r, 2 * r], rotation_deg: [0, 0, 0] },
    sphere: { shape: 'sphere', centre_mm, radius_mm: r },
    faces: { shape: 'faces', faces: [], depth_mm: Number((Math.min(...size) / 10).toPrecision(2)) },
  }
  const name = `${shapeNames[shape]} ${recipe.zones.list.filter((z) => z.place.shape === shape).length + 1}`
  return { id: nextId(recipe.zones.list), name, role: 'fill', place: places[shape] }
}
