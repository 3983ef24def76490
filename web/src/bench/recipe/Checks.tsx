import type { Check, RunInfo } from '../../api/client'
import { useBench } from '../state'

export const showPlace = (place: readonly number[]) =>
  useBench.setState({ look: [...place] as [number, number, number] })

/** Turns the view to a place of a note, where it has one. */
export function ShowPlace({ place }: { place?: readonly number[] | null }) {
  if (!place) return null
  return (
    <button className="plainbutton" onClick={() => showPlace(place)}>
      Show
    </button>
  )
}

export function ChecksSentence() {
  const checks = useBench((b) => b.project?.finished?.report.checks)
  if (!checks) return <>Made with the final mesh</>
  const open = checks.filter((c) => c.verdict !== 'pass')
  const [first] = open
  if (!first) return <b>All {checks.length} pass</b>
  const failing = open.filter((c) => c.verdict === 'fail')
  const shown = failing[0] ?? first
  const fail = `${failing.length} ${failing.length === 1 ? 'check fails' : 'checks fail'}`
  const words = failing.length > 0 ? fail : `${open.length} to look at`
  return (
    <>
      <b>{words}:</b> {shown.title.toLowerCase()}, {shown.figure}
    </>
  )
}

/** Verdicts, for who cannot see their dots. */
const said: Record<Check['verdict'], string> = {
  pass: 'passes',
  look: 'needs a look',
  fail: 'fails',
}

export function CheckRow({ check, withHint }: { check: Check; withHint?: boolean }) {
  const place = check.place_mm
  return (
    <li className="check">
      <span className={`dot ${check.verdict}`} aria-label={said[check.verdict]} />
      {place ? (
        <button className="rowbutton" onClick={() => showPlace(place)} title="Show the place">
          {check.title}
        </button>
      ) : (
        <span>{check.title}</span>
      )}
      <span className="figure" title={check.limit ? `Limit: ${check.limit}` : undefined}>
        {check.figure}
      </span>
      {withHint && check.limit && check.verdict !== 'pass' && (
        <p className="muted small limit">Limit: {check.limit}</p>
      )}
      {withHint && check.hint && <p className="remark">{check.hint}</p>}
    </li>
  )
}

const groups: { group: Check['group']; title: string }[] = [
  { group: 'as_asked', title: 'As asked' },
  { group: 'sound', title: 'The mesh itself' },
]

/** Checks by what they are about; those that do not pass come first. */
export function CheckList({ checks, withHint }: { checks: readonly Check[]; withHint?: boolean }) {
  const rank = { fail: 0, look: 1, pass: 2 }
  return groups.map(({ group, title }) => {
    const own = checks
      .filter((c) => c.group === group)
      .sort((a, b) => rank[a.verdict] - rank[b.verdict])
    if (own.length === 0) return null
    return (
      <section key={group} className="checkgroup" aria-label={title}>
        <h4>{title}</h4>
        <ul className="checks">
          {own.map((c) => (
            <CheckRow key={c.id} check={c} withHint={withHint ?? false} />
          ))}
        </ul>
      </section>
    )
  })
}

export function Checks() {
  const project = useBench((b) => b.project)
  const report = project?.finished?.report
  if (!report?.checks) {
    return (
      <p className="muted">
        Checks are made on the mesh that will be exported. Make the final mesh to see them.
      </p>
    )
  }
  return (
    <>
      <CheckList checks={report.checks} withHint />
      {report.crumbs.length > 0 && <Removed report={report} />}
    </>
  )
}

/** The largest loose pieces that were removed, each with a way to its place. */
function Removed({ report }: { report: RunInfo['report'] }) {
  const more = report.crumbs_removed - report.crumbs.length
  return (
    <section className="checkgroup" aria-label="Loose pieces removed">
      <h4>Loose pieces removed, largest first</h4>
      <p className="removed">
        {report.crumbs.map((c) => (
          <button
            key={c.place_mm.join()}
            className="rowbutton figure"
            title="Show the place"
            onClick={() => showPlace(c.place_mm)}
          >
            {c.volume_mm3 < 0.01 ? c.volume_mm3.toExponential(0) : c.volume_mm3.toFixed(2)} mm³
          </button>
        ))}
        {more > 0 && <span className="muted small">and {more} smaller</span>}
      </p>
    </section>
  )
}
