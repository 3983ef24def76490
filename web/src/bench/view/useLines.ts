import { useEffect } from 'react'
import { filledOf, fillingOf } from '../recipe/filling'
import { kindOf } from '../recipe/patternRules'
import { choiceOf, useChoices } from '../recipe/structureRules'
import { filledAt } from '../recipe/zoneRules'
import { fetchLines, lookAt, useBench } from '../state'
import { useFrame } from './useResult'
import type { SceneRef } from './useScene'
import { CellLines, SkeletonLines } from './skeleton'

/** What can be looked at, and what is: the result, its cut, cells or struts. */
export function useViewMode() {
  const wanted = useBench((b) => b.view)
  const drawn = useBench((b) => b.picture !== null)
  const of = useBench(({ recipe, filled }) => recipe && filledAt(recipe, filled))
  const kind = useBench(({ recipe, filled }) =>
    recipe ? kindOf(fillingOf(recipe, filled).structure.pattern) : 'gyroid',
  )
  const found = useBench((b) => filledOf(b.picture?.info, of))
  const seeded = choiceOf(useChoices(), kind)?.family === 'seeded'
  const hasStruts = found?.walls === false && !!found.structure
  // A kind chosen later may have none of them to show.
  const lacking = (wanted === 'cells' && !seeded) || (wanted === 'skeleton' && drawn && !hasStruts)
  useEffect(() => {
    if (lacking) lookAt('whole')
  }, [lacking])
  return { view: lacking ? 'whole' : wanted, seeded, hasStruts, of }
}

/** Shows the cut, or cells or struts instead of the result. */
export function useLines(scene: SceneRef, { view, of }: ReturnType<typeof useViewMode>) {
  const frame = useFrame()
  const id = useBench((b) => b.project?.id)
  const cut = useBench((b) => b.cut)
  const skeleton = useBench((b) => b.skeleton)
  const cells = useBench((b) => b.cells)
  const strutColour = useBench((b) => b.strutColour)

  // While values change they are fetched with the numbers.
  useEffect(() => {
    if (id && (view === 'cells' || view === 'skeleton')) void fetchLines(view)
  }, [view, id, of])

  useEffect(() => {
    const lines =
      view === 'skeleton' && skeleton
        ? new SkeletonLines(skeleton, strutColour)
        : view === 'cells' && cells
          ? new CellLines(cells)
          : null
    scene.current?.setLines(lines)
  }, [scene, view, skeleton, cells, strutColour])

  useEffect(() => scene.current?.setCut(view === 'cut', cut), [scene, view, cut, frame])
}
