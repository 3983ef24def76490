import { useEffect } from 'react'
import { facesOf, numbersOf } from '../recipe/faceRules'
import { useBench, type BenchState, type Picking, type Step } from '../state'
import { usePartKey } from './usePartStep'
import { useFrame } from './useResult'
import type { SceneRef } from './useScene'

/** Steps in which something is picked on the part, by what is picked. */
const pickedIn: Record<Picking, Step[]> = {
  faces: ['zones', 'structure', 'grading'],
  drain: ['zones'],
  down: ['part'],
  point: ['grading'],
}

/** What a click on the part picks in the open step. */
export const usePicking = () =>
  useBench(({ step, picking }: BenchState) =>
    step && picking && pickedIn[picking].includes(step) ? picking : null,
  )

/** Shows the part by its faces while some are picked, and a place that a check tells of. */
export function useFacesInView(scene: SceneRef) {
  const frame = useFrame()
  const picking = usePicking()
  const faces = useBench((b) => b.faces)
  const tool = useBench((b) => b.pickTool)
  const recipe = useBench((b) => (b.faces ? b.recipe : null))
  const chosen = useBench((b) => b.chosen)
  const look = useBench((b) => b.look)
  const marked = useBench((b) => (b.step === 'part' || b.step === 'checks' ? b.look : null))
  const partKey = usePartKey()

  useEffect(() => void scene.current?.setFaces(faces?.glb ?? null), [scene, faces])

  useEffect(
    () =>
      scene.current?.setPicking(
        picking !== null,
        picking === 'faces' ? tool : 'click',
        picking === 'point',
      ),
    [scene, picking, tool],
  )

  useEffect(() => {
    const held = (recipe && facesOf(recipe, chosen)) ?? []
    scene.current?.chooseFaces(numbersOf(faces?.list ?? [], held))
  }, [scene, recipe, chosen, faces])

  useEffect(() => {
    if (look) scene.current?.lookAt(look)
  }, [scene, look])
  // What was told of another part is over.
  useEffect(() => useBench.setState({ look: null }), [partKey])
  useEffect(() => scene.current?.setMark(marked), [scene, marked, frame])
}
