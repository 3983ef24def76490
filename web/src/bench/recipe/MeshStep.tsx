import { Button, Progress, Segmented } from 'antd'
import { useEffect, useState } from 'react'
import type { Job, Recipe } from '../../api/client'
import { plain, seconds, triangles } from '../../shared/format'
import { stageTitles } from '../stages'
import { cancelFinal, edit, startFinal, useBench, underWay } from '../state'
import { ShowPlace } from './Checks'
import { SwitchLine } from './Lines'
import { Value } from './Value'

export function MeshSentence() {
  const final = useBench((b) => b.project?.finished)
  const making = useBench((b) => underWay(b.job))
  const cost = useBench((b) => b.picture?.info.cost)
  if (making) return <b>Making the final mesh…</b>
  if (final) {
    return (
      <>
        <b>Final</b>, {triangles(final.report.triangles)} triangles at {plain(final.step_mm)} mm
      </>
    )
  }
  if (!cost) return <>No mesh yet</>
  return (
    <>
      Draft. Final takes about <b>{seconds(cost.seconds)}</b>, {triangles(cost.triangles)} triangles
    </>
  )
}

const withMesh =
  (change: Partial<Recipe['mesh']>) =>
  (r: Recipe): Recipe => ({ ...r, mesh: { ...r.mesh, ...change } })

const memory = (mb: number) =>
  mb < 1000 ? `${Math.round(mb / 10) * 10} MB` : `${(mb / 1024).toFixed(1)} GB`

interface OfMesh {
  of: 'step_mm' | 'reduce_mm' | 'tolerance_mm' | 'crumb_mm3' | 'apart_mm'
  label: string
  hint?: string
  value: number
  unit: string
  digits?: number
  least?: number
  /** The slider reaches further where the value is larger. */
  most: number
}

/** A value of the final mesh, which no draft shows. */
const MeshValue = ({ of, least = 0, most, ...line }: OfMesh) => (
  <Value
    {...line}
    range={[least, Math.max(most, line.value)]}
    still={() => true}
    change={(v) => withMesh({ [of]: v })}
  />
)

export function MeshStep() {
  const project = useBench((b) => b.project)
  const recipe = useBench((b) => b.recipe)
  const picture = useBench((b) => b.picture)
  const job = useBench((b) => b.job)
  if (!project || !recipe) return null
  const p = picture?.info.cost
  const auto = recipe.mesh.step_mm === undefined || recipe.mesh.step_mm === null
  const step = recipe.mesh.step_mm ?? p?.step_mm ?? 0.3
  const apart = recipe.mesh.apart_mm ?? null
  const making = underWay(job)
  const crumb = recipe.mesh.crumb_mm3 ?? null
  return (
    <>
      <SwitchLine
        label="Grid step chosen by Ulmix"
        checked={auto}
        onChange={(on) => edit(withMesh({ step_mm: on ? undefined : step }))}
      />
      {!auto && (
        <MeshValue
          of="step_mm"
          label="Grid step"
          value={step}
          unit="mm"
          least={Math.max(step / 4, 0.02)}
          most={step * 3}
        />
      )}
      <MeshValue
        of="reduce_mm"
        label="Reduce within"
        hint="greatest deviation"
        value={recipe.mesh.reduce_mm}
        unit="mm"
        digits={3}
        most={0.1}
      />
      <MeshValue
        of="tolerance_mm"
        label="Tolerance"
        hint="of kept curved faces"
        value={recipe.mesh.tolerance_mm}
        unit="mm"
        digits={3}
        least={0.01}
        most={0.2}
      />
      <SwitchLine
        label="Crumbs follow the cells"
        checked={crumb === null}
        onChange={(on) => edit(withMesh({ crumb_mm3: on ? undefined : (p?.crumb_mm3 ?? 0) }))}
      />
      {crumb !== null && (
        <MeshValue
          of="crumb_mm3"
          label="Drop crumbs"
          hint="loose pieces below"
          value={crumb}
          unit="mm³"
          digits={1}
          most={100}
        />
      )}
      <Value
        label="Smoothing"
        hint="of the lattice"
        value={recipe.mesh.smoothing}
        unit=""
        digits={0}
        range={[0, 5]}
        change={(v) => withMesh({ smoothing: Math.round(v) })}
      />
      <div className="line">
        <span className="label">
          Lattice and solids
          <small>
            {apart === null ? 'joined into one closed mesh' : 'two closed meshes in one 3MF file'}
          </small>
        </span>
        <Segmented
          size="small"
          aria-label="Lattice and solids"
          value={apart === null ? 'one' : 'apart'}
          onChange={(v) => edit(withMesh({ apart_mm: v === 'one' ? undefined : 0 }))}
          options={[
            { value: 'one', label: 'One body' },
            { value: 'apart', label: 'Apart' },
          ]}
        />
      </div>
      {apart !== null && (
        <MeshValue
          of="apart_mm"
          label="Overlap"
          hint={apart > 0 ? 'how far the lattice reaches into solids' : 'they touch face to face'}
          value={apart}
          unit="mm"
          most={2}
        />
      )}
      {p && (
        <dl className="facts">
          <div>
            <dt>Grid step</dt>
            <dd>{plain(p.step_mm)} mm</dd>
          </div>
          <div>
            <dt>Triangles, about</dt>
            <dd data-triangles={p.triangles}>{triangles(p.triangles)}</dd>
          </div>
          <div>
            <dt>Time, about</dt>
            <dd>{seconds(p.seconds)}</dd>
          </div>
          <div>
            <dt>Memory, about</dt>
            <dd>{memory(p.memory_mb)}</dd>
          </div>
        </dl>
      )}
      {p?.notes.map((n) => (
        <p key={n.text} className="remark">
          {n.text} <ShowPlace place={n.place_mm} />
        </p>
      ))}
      {project.interrupted && !making && (
        <p className="remark">
          The last final run was cut off when Ulmix stopped. Nothing else is lost: make it again.
        </p>
      )}
      {making && job ? (
        <Running job={job} />
      ) : (
        <Button
          type="primary"
          block
          onClick={() => void startFinal()}
          disabled={Boolean(project.finished)}
        >
          {project.finished ? 'Final mesh is made' : 'Make the final mesh'}
        </Button>
      )}
      {job?.state === 'cancelled' && !project.finished && (
        <p className="muted">The final run was cancelled.</p>
      )}
    </>
  )
}

function Running({ job }: { job: Job }) {
  const [now, setNow] = useState(Date.now())
  const costs = useBench((b) => b.picture?.info.cost.stages) ?? []
  useEffect(() => {
    const timer = window.setInterval(() => setNow(Date.now()), 250)
    return () => window.clearInterval(timer)
  }, [])
  const elapsed = job.started_ms ? (now - job.started_ms) / 1000 : 0
  // As far as time says, but within the stage in work.
  const all = costs.reduce((sum, c) => sum + c.seconds, 0)
  const at = costs.findIndex((c) => c.stage === job.stage)
  const before = costs.slice(0, Math.max(at, 0)).reduce((sum, c) => sum + c.seconds, 0)
  const share =
    all > 0
      ? Math.min(Math.max(before, elapsed), before + (costs[at]?.seconds ?? 0), 0.99 * all) / all
      : 0
  return (
    <div className="running" role="status">
      <div className="line">
        <span>
          {job.state === 'queued'
            ? 'Waiting for its turn'
            : job.stage
              ? stageTitles[job.stage]
              : 'Starting'}
        </span>
        <span className="figure muted">
          {seconds(elapsed)} of about {seconds(job.predicted_seconds)}
        </span>
      </div>
      <Progress percent={Math.round(share * 100)} size="small" showInfo={false} />
      <Button size="small" block onClick={() => void cancelFinal()}>
        Cancel
      </Button>
    </div>
  )
}
