import { useEffect } from 'react'
import { lookAt, useBench } from '../state'
import type { SceneRef } from './useScene'
import { sides } from './Viewpoint'

const sideOfKey: Record<string, keyof typeof sides> = {
  '1': 'angle',
  '2': 'front',
  '3': 'right',
  '4': 'top',
}

/** Keys of the view. */
export function useViewKeys(scene: SceneRef) {
  useEffect(() => {
    const keys = (e: KeyboardEvent) => {
      if (e.target instanceof HTMLInputElement || e.ctrlKey || e.metaKey || e.altKey) return
      const side = sideOfKey[e.key]
      const direction = side && sides[side]
      if (direction) scene.current?.view(direction)
      else if (e.key === 'f') scene.current?.fit()
      else if (e.key === 'c') lookAt(useBench.getState().view === 'cut' ? 'whole' : 'cut')
    }
    window.addEventListener('keydown', keys)
    return () => window.removeEventListener('keydown', keys)
  }, [scene])
}
