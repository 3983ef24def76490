import { useEffect, useRef, useState } from 'react'
import { api } from '../../api/client'
import { withPointAt } from '../recipe/gradingRules'
import { withShape } from '../recipe/shapeRules'
import { withStructure } from '../recipe/structureRules'
import { centreOf, moved, triple, withZone } from '../recipe/zoneRules'
import { drill, edit, placeValue, preview, stand, useBench } from '../state'
import { setInView } from './inView'
import { addFaces, toggleFace } from './pickedFaces'
import type { Placement } from './MoveHandle'
import type { Readout } from './pointerValues'
import { Scene } from './Scene'

export type SceneRef = { readonly current: Scene | null }

/** What was moved by its handle: a control point, a point of a grading, a zone, or else the lattice. */
function place(p: Placement, done: boolean) {
  const { step, chosen, control, point, recipe, project } = useBench.getState()
  const change = done ? edit : preview
  const centre = project ? centreOf(project.part) : [0, 0, 0]
  if (step === 'part' && recipe?.part.shape?.shape === 'free_form') {
    const to = triple(p.shift.map((v, i) => Number((v + (centre[i] ?? 0)).toFixed(2))))
    const points = (s: { points_mm: number[][] }) =>
      s.points_mm.map((q, n) => (n === control ? to : triple(q)))
    change(withShape('free_form', (s) => ({ ...s, points_mm: points(s) })))
  } else if (step === 'grading' && point !== null) {
    const to = triple(p.shift.map((v, i) => Number((v + (centre[i] ?? 0)).toFixed(2))))
    change(withPointAt(point, to))
  } else if (step === 'zones' && chosen?.of === 'zone' && project) {
    const to = p.shift.map((v, i) => v + (centre[i] ?? 0))
    change(withZone(chosen.index, (z) => ({ ...z, place: moved(z.place, to) })))
  } else {
    change(withStructure({ shift_mm: p.shift, rotation_deg: p.turn }))
  }
}

/** The scene on a canvas, and what it tells: all other hooks of the view hand it what to show. */
export function useScene() {
  const canvas = useRef<HTMLCanvasElement>(null)
  const scene = useRef<Scene | null>(null)
  const [readout, setReadout] = useState<Readout | null>(null)
  /** Number of the picture that is painted. */
  const [painted, setPainted] = useState(0)
  /** The face under the pointer. */
  const [face, setFace] = useState<number | null>(null)
  const [band, setBand] = useState<[number, number, number, number] | null>(null)

  useEffect(() => {
    if (!canvas.current) return
    const made = new Scene(canvas.current, {
      cut: (at) => useBench.setState((b) => ({ cut: { ...b.cut, at } })),
      place,
      face: setFace,
      pick: (met) => {
        const { picking } = useBench.getState()
        if (picking === 'drain') drill(met.place, met.outward)
        else if (picking === 'down') stand(met.outward)
        else if (picking === 'point') placeValue(met.place)
        else toggleFace(met.face)
      },
      sweep: (swept) => addFaces(swept, false),
      loop: (beyond) => addFaces(beyond, true),
      loops: (face) => {
        const { project, recipe } = useBench.getState()
        return project && recipe ? api.loops(project.id, recipe.part, face) : Promise.resolve([])
      },
      band: setBand,
      control: (control) => useBench.setState({ control }),
      value: (point) => useBench.setState({ point }),
      painted: setPainted,
      readout: setReadout,
    })
    scene.current = made
    setInView(() => made.middle())
    return () => {
      setInView(null)
      made.dispose()
      scene.current = null
    }
  }, [])

  return { canvas, scene, readout, painted, face, band }
}
