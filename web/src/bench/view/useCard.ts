import { useEffect } from 'react'
import { api } from '../../api/client'
import { useBench } from '../state'
import { usePicking } from './useFacesInView'
import { useFieldInView } from './useField'
import { useMovedMap } from './usePartStep'
import type { SceneRef } from './useScene'

/** How long a picture is at rest before it is kept, in ms. */
const AT_REST = 700

/** Keeps the picture as it was last seen at rest, for the start screen. */
export function useCard(scene: SceneRef, painted: number) {
  const id = useBench((b) => b.project?.id)
  const atRest = useBench(
    ({ picture }) => picture?.n === painted && picture.info.quality !== 'drag',
  )
  // Not while the part itself is shown instead.
  const otherwise = [useMovedMap(), usePicking(), useFieldInView()].some((v) => v !== null)
  useEffect(() => {
    if (!id || otherwise || painted === 0 || !atRest) return
    const timer = window.setTimeout(async () => {
      const png = await scene.current?.card()
      // A missed picture of the start screen is no loss.
      if (png) await api.setCard(id, png).catch(() => undefined)
    }, AT_REST)
    return () => window.clearTimeout(timer)
  }, [scene, id, painted, atRest, otherwise])
}
