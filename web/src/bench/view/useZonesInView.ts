import { useEffect } from 'react'
import { api } from '../../api/client'
import { useBench } from '../state'
import { useChosenZone } from './useHandle'
import { usePartKey } from './usePartStep'
import type { SceneRef } from './useScene'

/** Shows zones: as the colour of what is kept solid, as veils, and alone. */
export function useZonesInView(scene: SceneRef, painted: number) {
  const zones = useBench((b) => b.recipe?.zones.list)
  const solidRest = useBench((b) => b.recipe?.zones.rest === 'keep_solid')
  const hasSkin = useBench((b) => (b.recipe?.zones.skins.length ?? 0) > 0)
  const bodyRoles = useBench((b) => Object.keys(b.recipe?.part.roles ?? {}).length > 0)
  const step = useBench((b) => b.picture?.info.step_mm ?? 1)
  const inZones = useBench((b) => b.step === 'zones')
  const hidden = useBench((b) => b.hidden)
  const zone = useChosenZone()
  const alone = useAlone()

  useEffect(
    () => scene.current?.setPosts(solidRest ? [] : (zones ?? []), bodyRoles, hasSkin, step),
    [scene, zones, bodyRoles, hasSkin, step, solidRest],
  )

  const zoneAlone = alone?.of === 'zone' ? alone.id : null
  useEffect(() => {
    const shown = (id: number) => (zoneAlone === null ? !hidden.includes(id) : id === zoneAlone)
    const veiled = inZones ? (zones ?? []).filter((z) => shown(z.id)) : []
    scene.current?.setGhosts(veiled, zone)
  }, [scene, inZones, zones, zone, zoneAlone, hidden])

  const place = (zoneAlone !== null && zones?.find((z) => z.id === zoneAlone)?.place) || null
  const byPoints = alone !== null && (alone.of === 'body' || place?.shape === 'faces')
  useEffect(
    () => scene.current?.setAlone(byPoints ? 'within' : place, step),
    [scene, byPoints, place, step],
  )

  const id = useBench((b) => b.project?.id)
  const saved = useBench((b) => b.project?.recipe)
  useEffect(() => {
    if (!byPoints || !alone || !id || !saved || painted === 0) return
    const stop = new AbortController()
    const places = scene.current?.places() ?? new Float32Array()
    // Without an answer everything stays in sight.
    void api
      .within(id, alone, places, stop.signal)
      .then((far) => stop.signal.aborted || scene.current?.setBeyond(far))
      .catch(() => undefined)
    return () => stop.abort()
  }, [scene, byPoints, alone, id, saved, painted])

  useBeside(scene)
}

/** What the open step shows alone. */
function useAlone() {
  return useBench(({ step, alone }) =>
    (step === 'zones' && alone?.of === 'zone') || (step === 'part' && alone?.of === 'body')
      ? alone
      : null,
  )
}

/** Bodies of the part that are no material, as veils beside it. */
function useBeside(scene: SceneRef) {
  const id = useBench((b) => b.project?.id)
  const key = usePartKey()
  const some = useBench((b) =>
    Object.values(b.project?.recipe.part.roles ?? {}).some(
      (role) => role === 'keep_clear' || role === 'reference',
    ),
  )
  useEffect(() => {
    if (!some || !id) return scene.current?.setBeside(null)
    let current = true
    // What cannot be shown beside the part is no loss.
    void api
      .ghosts(id)
      .then((corners) => current && scene.current?.setBeside(corners))
      .catch(() => undefined)
    return () => {
      current = false
    }
  }, [scene, some, key, id])
}
