import { useEffect, useState } from 'react'
import { api, Refused, type Grading } from '../../api/client'
import { reportProblem, useBench } from '../state'
import { filledAt } from './zoneRules'

export type Spread = Awaited<ReturnType<typeof api.spreads>>[number]

/** How the numbers of a grading's sources are spread over the part, by source: anew when a source
 * or the part changes, not when a curve does. */
export function useSpreads(grading: Grading): readonly Spread[] {
  const [spreads, setSpreads] = useState<readonly Spread[]>([])
  const project = useBench((b) => b.project?.id)
  const part = useBench((b) => (b.recipe ? JSON.stringify([b.recipe.part, b.recipe.zones]) : ''))
  const sources = JSON.stringify(grading.sources.map((s) => s.from))
  useEffect(() => {
    const { recipe, filled } = useBench.getState()
    if (!project || !recipe) return
    const asking = new AbortController()
    const of = { grading: grading.id, zone: filledAt(recipe, filled) }
    api
      .spreads(project, recipe, of, asking.signal)
      .then(setSpreads)
      // A curve without what stands behind it is still a curve.
      .catch((e: unknown) => {
        if (!asking.signal.aborted && !(e instanceof Refused)) reportProblem(e)
      })
    return () => asking.abort()
  }, [project, part, sources, grading.id])
  return spreads
}
