import { useEffect } from 'react'
import { useBench } from '../state'
import type { SceneRef } from './useScene'

/** The part's box as text: it stays the same while other things of the project change. */
export function useFrame() {
  return useBench(({ project }) =>
    project ? [...project.part.min_mm, ...project.part.size_mm].join(' ') : '',
  )
}

/** Thickness of walls or struts, in mm, around which the scale of colours lies. */
export const useWantedThickness = () => useBench((b) => b.picture?.info.linked.thickness_mm ?? 1)

/** Shows the result in the part's box, coloured, cut and standing as it is asked for. */
export function useResult(scene: SceneRef) {
  const frame = useFrame()
  const picture = useBench((b) => b.picture)
  const colourBy = useBench((b) => b.colourBy)
  const bed = useBench((b) => b.recipe?.stand?.bed_mm)
  const standing = useBench((b) => b.project?.standing)
  const wanted = useWantedThickness()

  useEffect(() => {
    const box = frame.split(' ').map(Number)
    if (frame) scene.current?.setBox(box.slice(0, 3), box.slice(3))
  }, [scene, frame])

  useEffect(() => {
    if (picture) void scene.current?.setPicture(picture)
  }, [scene, picture])

  useEffect(
    () => scene.current?.setColour(colourBy, [0.5 * wanted, 2 * wanted]),
    [scene, colourBy, wanted, picture],
  )

  useEffect(
    () => scene.current?.setStanding(bed && standing ? { turn: standing.turn.flat(), bed } : null),
    [scene, bed, standing, frame],
  )
}
