import { useEffect } from 'react'
import { fillingOf } from '../recipe/filling'
import { centreOf, middle, triple } from '../recipe/zoneRules'
import { useBench } from '../state'
import { useSheet } from './usePartStep'
import { useOpenGrading } from './useField'
import { useFrame } from './useResult'
import type { SceneRef } from './useScene'

/** The zone that the zones step works on. */
export const useChosenZone = () =>
  useBench((b) =>
    b.step === 'zones' && b.chosen?.of === 'zone'
      ? (b.recipe?.zones.list[b.chosen.index] ?? null)
      : null,
  )

/** The place of the chosen point of the open grading. mm. */
function useChosenPoint() {
  const grading = useOpenGrading()
  const n = useBench((b) => b.point)
  const from = grading?.sources.find((s) => s.from.kind === 'points')?.from
  return from?.kind === 'points' && n !== null ? (from.points[n]?.place_mm ?? null) : null
}

/** Puts the handle at what it moves: a zone, a control point, a value, or the lattice. */
export function useHandle(scene: SceneRef) {
  const frame = useFrame()
  const part = useBench((b) => b.project?.part)
  const structure = useBench((b) => b.recipe && fillingOf(b.recipe, b.filled).structure)
  const handle = useBench((b) => (b.step === 'structure' ? b.handle : null))
  const locked = useBench((b) => b.locked)
  const control = useBench((b) => b.control)
  const zone = useChosenZone()
  const sheet = useSheet()
  const value = useChosenPoint()

  useEffect(() => {
    if (!structure || !part) return
    const at =
      zone && !locked.includes(zone.id)
        ? middle(zone.place)
        : (value ?? sheet?.points_mm[control] ?? null)
    const centre = centreOf(part)
    const shift = at ? at.map((v, i) => v - (centre[i] ?? 0)) : structure.shift_mm
    const turn = at ? [0, 0, 0] : structure.rotation_deg
    scene.current?.setHandle(at ? 'shift' : handle, { shift: triple(shift), turn: triple(turn) })
  }, [scene, handle, structure, frame, zone, part, sheet, control, locked, value])
}
