import { api, type FaceInfo } from '../../api/client'
import { standOn } from '../recipe/standRules'
import { openGrading, withSource } from '../recipe/gradingRules'
import { drainHole, triple, withZones } from '../recipe/zoneRules'
import { edit } from './saving'
import { extras, get, reportProblem, set, type Picking } from './store'

/** Shows how far mending moved the part, or the result again. */
export async function showMoved(on: boolean) {
  const { project } = get()
  if (!on || !project) return set({ moved: null })
  try {
    const glb = await api.moved(project.id)
    set({
      moved: {
        glb,
        key: JSON.stringify(project.recipe.part),
        ...extras<{ greatest: number }>(glb),
      },
    })
  } catch (e) {
    reportProblem(e)
  }
}

/** Stands the part on a face that looks along `outward`. */
export function stand(outward: readonly number[]) {
  void pick(null)
  edit(standOn(outward))
}

/** A value at a place of the part: that of the last point of the source that is chosen. */
export function placeValue(place: readonly number[]) {
  const { recipe, chosen } = get()
  const open = recipe && openGrading(recipe)
  const n = chosen?.index ?? 0
  const source = open?.sources[n]
  if (!open || source?.from.kind !== 'points') return
  const value = source.from.points.at(-1)?.value ?? 1
  const point = { place_mm: triple(place.map((v) => Number(v.toFixed(2)))), value }
  edit(withSource(open.id, n, { from: { ...source.from, points: [...source.from.points, point] } }))
}

/** A drain hole at a place of the part's surface. */
export function drill(place: readonly number[], outward: readonly number[]) {
  const { project, recipe } = get()
  void pick(null)
  if (!project || !recipe) return
  edit(withZones((z) => ({ ...z, list: [drainHole(project, recipe, place, outward), ...z.list] })))
  set({ chosen: { of: 'zone', index: 0 }, filled: null })
}

/** Begins or ends picking on the part. */
export async function pick(picking: Picking | null) {
  set({ picking })
  if (picking) await loadFaces()
}

/** Fetches the part with its faces, where it is not there yet. */
export async function loadFaces() {
  const { project, recipe, faces } = get()
  const key = JSON.stringify(recipe?.part)
  if (!project || !recipe || faces?.key === key) return
  try {
    const glb = await api.faces(project.id, recipe.part)
    set({ faces: { glb, list: extras<{ faces: FaceInfo[] }>(glb).faces, key } })
  } catch (e) {
    set({ picking: null })
    reportProblem(e)
  }
}
