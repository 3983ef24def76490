import { useEffect } from 'react'
import { useBench } from '../state'
import { useFrame } from './useResult'
import type { SceneRef } from './useScene'

/** The part step that the server holds, as text. */
export const usePartKey = () =>
  useBench((b) => (b.project ? JSON.stringify(b.project.recipe.part) : ''))

/** How far mending moved the part, while that is looked at. */
export function useMovedMap() {
  const key = usePartKey()
  const moved = useBench((b) => (b.step === 'part' ? b.moved : null))
  return moved?.key === key ? moved : null
}

/** The sheet that the part step works on, if it is one. */
export const useSheet = () =>
  useBench((b) =>
    b.step === 'part' && b.recipe?.part.shape?.shape === 'free_form' ? b.recipe.part.shape : null,
  )

/** Shows what the part step works on: how far the part moved, its control points and directions. */
export function usePartStep(scene: SceneRef) {
  const frame = useFrame()
  const map = useMovedMap()
  const sheet = useSheet()
  const control = useBench((b) => b.control)
  const ways = useBench((b) => (b.step === 'part' && !b.picking ? b.project?.directions : null))

  useEffect(() => void scene.current?.setMap(map?.glb ?? null, map?.greatest ?? 1), [scene, map])

  useEffect(
    () => scene.current?.setDirections(ways ? { u: ways.u_mm, v: ways.v_mm } : null),
    [scene, ways, frame],
  )

  useEffect(
    () => scene.current?.setCage(sheet?.points_mm ?? [], sheet?.across ?? 1, control),
    [scene, sheet, control, frame],
  )
}
