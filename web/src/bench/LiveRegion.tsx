import { underWay, useBench, type BenchState } from './state'
import { mass, percent } from '../shared/format'
import { stageTitles } from './stages'

/** What happens, in a sentence for whoever does not see the picture. */
function told({ offline, job, working, picture, project }: BenchState): string {
  if (offline) return 'Ulmix does not answer.'
  if (underWay(job)) {
    return job?.stage ? `Final mesh: ${stageTitles[job.stage].toLowerCase()}.` : 'Final mesh begun.'
  }
  if (working || !picture) return project ? 'The picture is drawn.' : ''
  const { quality, report } = picture.info
  const numbers = `${mass(report.mass_g)}, lighter by ${percent(report.saved_percent)}`
  if (quality !== 'final') return `Draft ready: ${numbers}.`
  const open = report.checks?.filter((c) => c.verdict !== 'pass') ?? []
  const checks =
    open.length === 0 ? 'every check passes' : `to look at: ${open.map((c) => c.title).join(', ')}`
  return `Final mesh ready: ${numbers}; ${checks}.`
}

/** Tells progress and results to screen readers. */
export function LiveRegion() {
  const words = useBench(told)
  return (
    <p className="unseen" role="status" aria-live="polite" data-testid="told">
      {words}
    </p>
  )
}
