import { facesOf, withFaces } from '../recipe/faceRules'
import { same } from '../recipe/zoneRules'
import { edit, useBench } from '../state'

/** Adds a clicked face to what is chosen, or takes it out. */
export function toggleFace(number: number) {
  const { recipe, chosen, faces } = useBench.getState()
  const mark = faces?.list[number]?.mark
  const held = recipe && facesOf(recipe, chosen)
  if (!chosen || !mark || !held) return
  const others = held.filter((f) => !same(f, mark))
  void edit(withFaces(chosen, others.length < held.length ? others : [...held, mark]))
}

/** Adds faces to what is chosen; those that are all there already `leave`. */
export function addFaces(numbers: readonly number[], leave: boolean) {
  const { recipe, chosen, faces, picking } = useBench.getState()
  const held = recipe && facesOf(recipe, chosen)
  if (!chosen || !held || picking !== 'faces') return
  const marks = numbers.flatMap((n) => faces?.list[n]?.mark ?? [])
  const more = marks.filter((m) => !held.some((f) => same(f, m)))
  const rest = () => held.filter((f) => !marks.some((m) => same(f, m)))
  if (more.length > 0) void edit(withFaces(chosen, [...held, ...more]))
  else if (leave && marks.length > 0) void edit(withFaces(chosen, rest()))
}
