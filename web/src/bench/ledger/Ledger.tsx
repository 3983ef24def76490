import { InputNumber, Select } from 'antd'
import type { Recipe, RunInfo } from '../../api/client'
import { useOptions } from '../../api/useOptions'
import { area, count, mass, mm, percent, seconds, volume } from '../../shared/format'
import { CheckList } from '../recipe/Checks'
import { leave } from '../recipe/NumberLine'
import { edit, useBench } from '../state'
import './ledger.css'

const stageNames: Record<string, string> = {
  zones: 'Part and zones',
  thickness: 'Thickness',
  lattice: 'Lattice',
  surface: 'Surface',
  finish: 'Finish',
  report: 'Numbers',
  skeleton: 'Skeleton',
}

export function Ledger() {
  const picture = useBench((b) => b.picture)
  const recipe = useBench((b) => b.recipe)
  const behind = useBench((b) => b.behind)
  const info = picture?.info
  if (!info || !recipe) return <aside className="ledger" aria-label="Numbers" />
  const r = info.report
  const final = info.quality === 'final' && !behind
  const measured = r.gauged[0]
  const about = final ? '' : '≈ '
  const rows: [string, string][] = [
    ['Mass', about + mass(r.mass_g)],
    ['Solid part', mass(r.part_mass_g)],
    ['Volume', about + volume(r.volume_mm3)],
    ...(r.proud_mm3 > 0
      ? [['Past the surface', about + volume(r.proud_mm3)] as [string, string]]
      : []),
    ['Fill density', about + percent(r.fill_density_percent)],
    [info.linked.walls ? 'Wall asked' : 'Strut asked', asked(info.linked)],
    ...(measured
      ? ([
          [info.linked.walls ? 'Wall measured' : 'Strut measured', mm(measured.median_mm)],
          [info.linked.walls ? 'Thinnest wall' : 'Thinnest place', mm(measured.thinnest_mm)],
        ] as [string, string][])
      : []),
    ['Opening, about', info.linked.opening_mm > 0 ? mm(info.linked.opening_mm) : 'closed'],
    // Those of an earlier picture say nothing.
    ...(behind
      ? []
      : ([
          ['Surface', about + area(r.area_mm2)],
          ['Triangles', count(r.triangles)],
        ] as [string, string][])),
  ]
  return (
    <aside className="ledger" aria-label="Numbers">
      <div className="lighter">
        <span>Lighter by</span>
        <strong data-testid="saved">
          {about}
          {percent(r.saved_percent)}
        </strong>
        <span className="muted">
          {volume(r.volume_mm3)} of {volume(r.part_volume_mm3)} remain
        </span>
        <span className={final ? 'tag final' : 'tag'}>
          {final
            ? 'of the final mesh'
            : behind
              ? 'estimated: the mesh waits'
              : 'draft: the final mesh settles it'}
        </span>
      </div>
      <h3>Numbers</h3>
      <MaterialRow recipe={recipe} />
      <dl className="facts">
        {rows.map(([k, v]) => (
          <div key={k}>
            <dt>{k}</dt>
            <dd>{v}</dd>
          </div>
        ))}
      </dl>
      {r.apart.length > 1 && (
        <dl className="facts" data-testid="apart">
          {r.apart.map((b) => (
            <div key={b.name}>
              <dt>{b.name}, apart</dt>
              <dd>{volume(b.volume_mm3)}</dd>
            </div>
          ))}
        </dl>
      )}
      <h3>Checks</h3>
      {r.checks ? (
        <CheckList checks={r.checks} />
      ) : (
        <p className="muted">Made with the final mesh.</p>
      )}
      <LastRun stages={info.stages} took={info.seconds} />
    </aside>
  )
}

/** How long the last run took: one line, which opens to its stages. */
function LastRun({ stages, took }: { stages: RunInfo['stages']; took: number }) {
  return (
    <details className="lastrun">
      <summary>
        <h3>Last run</h3> <span className="figure muted">{seconds(took)}</span>
      </summary>
      <dl className="facts stages" data-testid="stages">
        {stages.map((s) => (
          <div key={s.stage} data-stage={s.stage} data-cached={s.cached}>
            <dt>{stageNames[s.stage]}</dt>
            <dd className={s.cached ? 'muted' : ''}>{s.cached ? 'kept' : seconds(s.seconds)}</dd>
          </div>
        ))}
      </dl>
    </details>
  )
}

function MaterialRow({ recipe }: { recipe: Recipe }) {
  const { data } = useOptions()
  const { material } = recipe
  return (
    <div className="material">
      <Select
        aria-label="Material"
        value={material.name}
        popupMatchSelectWidth={190}
        onChange={(name) => {
          const found = data?.materials.find((m) => m.name === name)
          if (found) edit((r) => ({ ...r, material: { name: found.name, density: found.density } }))
        }}
        options={data?.materials.map((m) => ({ value: m.name, label: m.name })) ?? []}
      />
      <InputNumber
        aria-label="Density, g/cm³"
        key={material.density}
        defaultValue={material.density}
        controls={false}
        suffix="g/cm³"
        onBlur={(e) => {
          const density = Number.parseFloat(e.target.value)
          if (Number.isFinite(density) && density !== material.density)
            edit((r) => ({ ...r, material: { ...r.material, density } }))
        }}
        onPressEnter={leave}
      />
    </div>
  )
}

/** The thickness that is asked for, or from where to where it is graded. */
function asked({ thickness_mm, thickness_range_mm }: RunInfo['linked']) {
  if (!thickness_range_mm) return mm(thickness_mm)
  const [least = 0, most = 0] = thickness_range_mm
  return `${least.toFixed(1)}–${mm(most)}`
}
