import type { Check, RunInfo } from '../../api/client'
import { useBench } from '../state'

export function checksSentence(final: RunInfo | null) {
  const checks = final?.report.checks
  if (!checks) return <>Made with the final mesh</>
  const open = checks.filter((c) => c.verdict !== 'pass')
  const [first] = open
  if (!first) return <b>All {checks.length} pass</b>
  return (
    <>
      <b>{open.length} to look at:</b> {first.title.toLowerCase()}, {first.figure}
    </>
  )
}

export function CheckRow({ check, withHint }: { check: Check; withHint?: boolean }) {
  const place = check.place_mm
  return (
    <li className="check">
      <span className={`dot ${check.verdict}`} aria-label={{ pass: 'passes', look: 'needs a look', fail: 'fails' }[check.verdict]} />
      {place ? (
        <button className="rowbutton" onClick={() => useBench.setState({ look: [...place] as [number, number, number] })} title="Show the place">
          {check.title}
        </button>
      ) : (
        <span>{check.title}</span>
      )}
      <span className="figure">{check.figure}</span>
      {withHint && check.hint && <p className="remark">{check.hint}</p>}
    </li>
  )
}

export function Checks() {
  const { project } = useBench()
  const checks = project?.finished?.report.checks
  if (!checks) return <p className="muted">Checks are made on the mesh that will be exported. Make the final mesh to see them.</p>
  return (
    <ul className="checks">
      {checks.map((c) => (
        <CheckRow key={c.id} check={c} withHint />
      ))}
    </ul>
  )
}
