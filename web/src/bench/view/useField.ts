import { useEffect } from 'react'
import { plain } from '../../shared/format'
import { gradingOf, unitOf, valueName } from '../recipe/gradingRules'
import { fillingOf } from '../recipe/filling'
import { filledAt } from '../recipe/zoneRules'
import { fetchField, loadFaces, useBench } from '../state'
import { useFrame } from './useResult'
import type { SceneRef } from './useScene'

/** The grading that the step works on. */
export const useOpenGrading = () =>
  useBench(({ step, recipe, filled, grading }) =>
    step === 'grading' && recipe && grading !== null
      ? gradingOf(fillingOf(recipe, filledAt(recipe, filled)), grading)
      : null,
  )

/** What the open grading gives, while it is looked at. */
export const useFieldInView = () => useBench((b) => (b.step === 'grading' ? b.field : null))

/** Name and unit of what the colours of a field tell. */
export function useFieldWords() {
  const grading = useOpenGrading()
  const walls = useBench((b) => b.picture?.info.linked.walls ?? true)
  return grading && { name: valueName(grading.of, walls), unit: unitOf(grading) }
}

/** Paints what the open grading gives, with its points. */
export function useField(scene: SceneRef) {
  const frame = useFrame()
  const grading = useOpenGrading()
  const field = useFieldInView()
  const faces = useBench((b) => (b.step === 'grading' ? b.faces : null))
  const chosen = useBench((b) => b.point)
  const part = useBench((b) => (b.recipe ? JSON.stringify(b.recipe.part) : ''))
  const zones = useBench((b) => b.recipe?.zones)
  const source = grading?.sources.find((s) => s.from.kind === 'points')
  const points = source?.from.kind === 'points' ? source.from.points : null
  const unit = grading ? unitOf(grading) : ''

  useEffect(() => {
    void fetchField(grading)
  }, [grading, zones, part])

  useEffect(() => {
    if (grading) void loadFaces()
  }, [grading, part])

  useEffect(() => scene.current?.setField(field), [scene, field, faces])

  useEffect(() => {
    const marks = (points ?? []).map((p) => ({
      place: p.place_mm,
      words: `${plain(Number(p.value.toFixed(2)))} ${unit}`,
    }))
    scene.current?.setValueMarks(marks, chosen)
  }, [scene, points, unit, chosen, frame])
}
