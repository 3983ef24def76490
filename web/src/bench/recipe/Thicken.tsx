import type { Recipe, RunInfo } from '../../api/client'
import { mm, percent, plain } from '../../shared/format'
import { edit, preview, useBench } from '../state'
import { Value } from './Value'

export function thickenSentence(r: Recipe, info?: RunInfo) {
  const what = r.structure.form === 'walls' ? 'Walls' : 'Struts'
  const got = info?.linked
  if (r.thicken.lead === 'thickness') {
    return (
      <>
        {what} <b>{plain(r.thicken.thickness_mm)} mm</b> thick{got && <>, {percent(got.density_percent)} solid</>}
      </>
    )
  }
  return (
    <>
      <b>{plain(r.thicken.percent)} %</b> solid{got && <>, {what.toLowerCase()} {mm(got.thickness_mm)} thick</>}
    </>
  )
}

const thick = (thickness_mm: number) => (r: Recipe): Recipe => ({ ...r, thicken: { lead: 'thickness', thickness_mm } })
const dense = (percent: number) => (r: Recipe): Recipe => ({ ...r, thicken: { lead: 'relative_density', percent } })

export function Thicken() {
  const { project, recipe, picture } = useBench()
  if (!project || !recipe) return null
  const got = picture?.info.linked
  const t = recipe.thicken
  const walls = recipe.structure.form === 'walls'
  const thickness = t.lead === 'thickness' ? t.thickness_mm : (got?.thickness_mm ?? 0)
  const density = t.lead === 'relative_density' ? t.percent : (got?.density_percent ?? 0)
  const smallest = Math.min(...recipe.structure.cell_mm)
  return (
    <>
      <Value
        label={walls ? 'Wall thickness' : 'Strut thickness'}
        hint={walls ? undefined : 'at its narrowest'}
        value={thickness}
        unit="mm"
        range={project.ranges.thickness_mm}
        follows={t.lead !== 'thickness'}
        onMove={(v) => preview(thick(v))}
        onSet={(v) => edit(thick(v))}
      />
      <Value
        label="Relative density"
        hint="solid share of the fill"
        value={density}
        unit="%"
        digits={1}
        range={project.ranges.percent}
        follows={t.lead !== 'relative_density'}
        onMove={(v) => preview(dense(v))}
        onSet={(v) => edit(dense(v))}
      />
      <p className="muted small">
        The one you set last leads; the other follows.
      </p>
      {got && (
        <dl className="facts">
          <div>
            <dt>Narrowest opening, about</dt>
            <dd className={got.opening_mm <= 0 ? 'amber' : ''}>{got.opening_mm > 0 ? mm(got.opening_mm) : 'closed'}</dd>
          </div>
          <div>
            <dt>Thickness to cell</dt>
            <dd>{(thickness / smallest).toFixed(2)}</dd>
          </div>
        </dl>
      )}
    </>
  )
}
