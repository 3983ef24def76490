import { ShowPlace } from '../recipe/Checks'
import { useBench } from '../state'

/** What stands in the way, or what should be known of the result. */
export function Notes() {
  const problem = useBench((b) => b.refusal ?? b.problem)
  const known = useBench((b) => b.picture?.info.report.notes)
  const notes = problem ? [] : (known ?? [])
  if (!problem && notes.length === 0) return null
  return (
    <div className="notes" role="alert">
      {problem && (
        <p>
          <strong className="bad">{problem.message}</strong> {problem.hint}
        </p>
      )}
      {notes.map((n) => (
        <p key={n.text}>
          {n.text} <ShowPlace place={n.place_mm} />
        </p>
      ))}
    </div>
  )
}
