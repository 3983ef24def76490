import { Button } from 'antd'
import { mm, percent, plain } from '../../shared/format'
import { edit } from '../state'
import { useFilling, withFilling } from './filling'
import { FillingChoice } from './FillingChoice'
import { gradingsOf } from './gradingRules'
import { ChoiceLine } from './Lines'
import { SectionFields } from './SectionFields'
import { useBench } from '../state'
import { kindOf } from './patternRules'
import { choiceOf, useChoices, withJoins } from './structureRules'
import { Value } from './Value'

export function ThickenSentence() {
  const thicken = useBench((b) => b.recipe?.thicken)
  const got = useBench((b) => b.picture?.info.linked)
  if (!thicken) return null
  const what = got?.walls === false ? 'Struts' : 'Walls'
  if (got?.thickness_range_mm) {
    const [least = 0, most = 0] = got.thickness_range_mm
    return (
      <>
        {what}{' '}
        <b>
          {plain(Number(least.toFixed(2)))} to {plain(Number(most.toFixed(2)))} mm
        </b>{' '}
        thick, {percent(got.density_percent)} solid
      </>
    )
  }
  if (thicken.lead === 'thickness') {
    return (
      <>
        {what} <b>{plain(thicken.thickness_mm)} mm</b> thick
        {got && <>, {percent(got.density_percent)} solid</>}
      </>
    )
  }
  return (
    <>
      <b>{plain(thicken.percent)} %</b> solid
      {got && (
        <>
          , {what.toLowerCase()} {mm(got.thickness_mm)} thick
        </>
      )}
    </>
  )
}

const thick = (thickness_mm: number) =>
  withFilling(() => ({ thicken: { lead: 'thickness', thickness_mm } }))
const dense = (percent: number) =>
  withFilling(() => ({ thicken: { lead: 'relative_density', percent } }))

export function Thicken() {
  const f = useFilling()
  const family = choiceOf(useChoices(), f ? kindOf(f.filling.structure.pattern) : 'gyroid')?.family
  if (!f) return null
  const { pattern } = f.filling.structure
  const { kind } = pattern
  const net = family !== 'surfaces' && kind !== 'own_mesh'
  const { filling, found: got, picture } = f
  const t = filling.thicken
  const walls = got?.walls !== false
  const thickness = t.lead === 'thickness' ? t.thickness_mm : (got?.thickness_mm ?? 0)
  const density = t.lead === 'relative_density' ? t.percent : (got?.density_percent ?? 0)
  const range = got?.thickness_range_mm
  const grading = gradingsOf(filling).find((g) => g.of !== 'cell_size' && g.sources.length > 0)
  const fixed = !!range && grading?.given === 'value'
  const words = !fixed
    ? 'graded around the value below'
    : grading.of === 'density'
      ? `for the graded density, ${percent(got?.density_percent ?? 0)} in all`
      : 'graded in mm'
  const smallest = got?.cell_mm ?? Math.min(...filling.structure.cell_mm)
  return (
    <>
      <FillingChoice />
      {range && (
        <div className="line">
          <span className="label">
            {walls ? 'Wall thickness' : 'Strut thickness'}
            <small>{words}</small>
          </span>
          <Button size="small" onClick={() => useBench.setState({ step: 'grading' })}>
            {plain(Number((range[0] ?? 0).toFixed(2)))} to{' '}
            {plain(Number((range[1] ?? 0).toFixed(2)))} mm
          </Button>
        </div>
      )}
      {!fixed && (
        <Value
          label={walls ? 'Wall thickness' : 'Strut thickness'}
          hint={
            kind === 'own_mesh'
              ? 'in the median'
              : walls
                ? undefined
                : !net
                  ? 'at its narrowest'
                  : filling.joins.section?.shape === 'rectangular'
                    ? 'width'
                    : 'diameter'
          }
          value={thickness}
          unit="mm"
          range={f.project.ranges.thickness_mm}
          follows={t.lead !== 'thickness'}
          change={(v) => thick(v)}
        />
      )}
      {!fixed && (
        <Value
          label="Relative density"
          hint="solid share of the fill"
          value={density}
          unit="%"
          digits={1}
          range={f.project.ranges.percent}
          follows={t.lead !== 'relative_density'}
          change={(v) => dense(v)}
        />
      )}
      {!fixed && <p className="muted small">The one you set last leads; the other follows.</p>}
      {net && !walls && <SectionFields width={thickness} />}
      {net && (
        <Value
          label="Blend"
          hint="at joins"
          value={filling.joins.blend_mm}
          unit="mm"
          range={[0, Number((smallest / 5).toFixed(2))]}
          change={(v) => withJoins({ blend_mm: v })}
        />
      )}
      {net && !walls && (
        <Value
          label="Nodes"
          hint="thicker by"
          value={filling.joins.node_mm}
          unit="mm"
          range={[0, Number((smallest / 4).toFixed(2))]}
          change={(v) => withJoins({ node_mm: v })}
        />
      )}
      {pattern.kind === 'voronoi' && pattern.net && (
        <Value
          label="Net at the surface"
          hint="thicker by"
          value={filling.joins.net_mm}
          unit="mm"
          range={[0, Number((smallest / 4).toFixed(2))]}
          change={(v) => withJoins({ net_mm: v })}
        />
      )}
      <ChoiceLine
        label="At the part's surface"
        value={filling.joins.proud ? 'proud' : 'trimmed'}
        options={[
          { value: 'trimmed', label: 'Trimmed' },
          { value: 'proud', label: 'Stands proud' },
        ]}
        onChange={(v) => edit(withJoins({ proud: v === 'proud' }))}
      />
      {filling.joins.proud && (
        <p className="muted small">
          By half a {walls ? 'wall' : 'strut'}, where no skin or solid covers it.
        </p>
      )}
      {picture?.info.report.cautions.map((c) => (
        <p key={c} className="remark">
          {c}
        </p>
      ))}
      {got && (
        <dl className="facts">
          {fixed && (
            <div>
              <dt>Relative density</dt>
              <dd>{percent(got.density_percent)}</dd>
            </div>
          )}
          <div>
            <dt>Narrowest opening, about</dt>
            <dd className={got.opening_mm <= 0 ? 'amber' : ''}>
              {got.opening_mm > 0 ? mm(got.opening_mm) : 'closed'}
            </dd>
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
