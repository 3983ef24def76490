import { InputNumber, Segmented } from 'antd'
import { useState } from 'react'
import type { Recipe } from '../../api/client'
import { edit, useBench, type Handle } from '../state'
import { CellEditor } from './CellEditor'
import { CleanFields } from './CleanFields'
import { courseOf, hasRows } from './courseRules'
import { CourseFields } from './CourseFields'
import { Chooser } from './Chooser'
import { useFilling } from './filling'
import { ownOf } from './zoneRules'
import { FacePick } from './FacePick'
import { FillingChoice } from './FillingChoice'
import { FinerFields } from './FinerFields'
import { followedFaces } from './followedRules'
import { ChoiceLine, SwitchLine } from './Lines'
import { leave } from './NumberLine'
import { RandomNumber, SeedFields } from './SeedFields'
import {
  along,
  cells,
  choiceOf,
  forms,
  hasSize,
  leastShare,
  put,
  useChoices,
  withSeeds,
  withStructure,
  type S,
  type Triple,
} from './structureRules'
import { Value } from './Value'

export function StructureSentence({ recipe }: { recipe: Recipe }) {
  const s = recipe.structure
  const choice = choiceOf(useChoices(), s.kind)
  const turned = s.rotation_deg.some((v) => v !== 0)
  const moved = s.shift_mm.some((v) => v !== 0)
  const own = recipe.zones.list.filter((_, i) => ownOf(recipe, i)).length
  return (
    <>
      <b>
        {choice?.title}
        {choice?.family === 'surfaces' && !choice.random && ` ${forms[s.form]}`}
      </b>
      , {cells(s, choice)}
      {hasRows(choice) &&
        { straight: '', polar: ', polar', between: ', face to face' }[courseOf(s).course]}
      {turned && ', turned'}
      {moved && (turned ? ' and shifted' : ', shifted')}
      {own > 0 && (own === 1 ? '; one zone has its own' : `; ${own} zones have their own`)}
    </>
  )
}

/** Three typed values, for x, y and z. */
function Three({
  label,
  unit,
  values,
  onSet,
}: {
  label: string
  unit: string
  values: readonly number[]
  onSet: (v: Triple) => void
}) {
  return (
    <div className="three">
      <span className="label">
        {label} <small className="muted">{unit}</small>
      </span>
      {['X', 'Y', 'Z'].map((axis, i) => (
        <InputNumber
          key={`${axis} ${values[i]}`}
          size="small"
          aria-label={`${label} ${axis}, ${unit}`}
          prefix={<span className="muted">{axis}</span>}
          controls={false}
          defaultValue={values[i]}
          onBlur={(e) => {
            const v = Number.parseFloat(e.target.value)
            if (Number.isFinite(v) && v !== values[i]) onSet(put(values, i, v))
          }}
          onPressEnter={leave}
        />
      ))}
    </div>
  )
}

/** Are its struts listed one by one, so that some can be left out? */
const isListed = (s: S, bent: boolean) =>
  bent || ['voronoi', 'delaunay', 'neighbours', 'own_struts'].includes(s.kind)

/** The size leads again, not a count of seed points. */
const sized = (cell_mm: Triple) => (r: Recipe) =>
  withSeeds({ count: null, surface_count: null })(withStructure({ cell_mm })(r))

export function Structure() {
  const handle = useBench((b) => b.handle)
  const f = useFilling()
  const s = f?.filling.structure
  const choice = choiceOf(useChoices(), s?.kind ?? 'gyroid')
  const uneven = new Set(s?.cell_mm).size > 1
  const [asked, ask] = useState(false)
  const perAxis = asked || uneven
  if (!f || !s) return null
  const { ranges } = f.project
  const [x = 1] = s.cell_mm
  // What is found is the size of the smallest cells.
  const least = leastShare(s, f.recipe)
  const counted = choice?.seeded && !!(s.seeds.count ?? s.seeds.surface_count)
  const shown = (i: number) =>
    counted && !uneven ? (f.found ? f.found.cell_mm / least : x) : (s.cell_mm[i] ?? x)
  const sheet = choice?.random && !choice.seeded
  const contact = sheet ? f.found?.structure?.contact : null
  // Rows that bend follow the part.
  const bent = hasRows(choice) && courseOf(s).course !== 'straight'
  const direction = (['x', 'y', 'z'] as const).find((a) =>
    along[a].every((v, i) => v === s.rotation_deg[i]),
  )
  return (
    <>
      <FillingChoice />
      <Chooser />
      {choice?.family === 'surfaces' && !choice.random && (
        <Segmented<S['form']>
          block
          size="small"
          aria-label="Form"
          value={s.form}
          options={[
            { value: 'walls', label: 'Walls' },
            { value: 'network', label: 'Network' },
            { value: 'other_network', label: 'Other side' },
          ]}
          onChange={(form) => edit(withStructure({ form }))}
        />
      )}
      {s.kind === 'own_cell' && <CellEditor cell={s.own_cell} />}
      {choice?.family === 'extruded' && (
        <ChoiceLine
          label="Walls run along"
          value={s.upright ? '' : (direction ?? '')}
          options={(['x', 'y', 'z'] as const).map((a) => ({ value: a, label: a.toUpperCase() }))}
          onChange={(a) => edit(withStructure({ rotation_deg: along[a], upright: undefined }))}
        />
      )}
      {choice?.family === 'extruded' && (
        <>
          <p className="muted small">
            {s.upright
              ? 'Upright on the face picked, or along its axis:'
              : 'or upright on a face, or along the axis of a round one:'}
          </p>
          <FacePick of={{ of: 'upright', index: 0 }} faces={followedFaces(s, 'upright') ?? []} />
        </>
      )}
      {!hasSize(choice) ? null : perAxis ? (
        ['X', 'Y', 'Z'].map((axis, i) => (
          <Value
            key={axis}
            label={`Cell along ${axis}`}
            value={shown(i)}
            unit="mm"
            digits={1}
            range={ranges.cell_mm}
            follows={counted}
            change={(v) => sized(put(s.cell_mm, i, v))}
          />
        ))
      ) : (
        <Value
          label="Cell size"
          value={shown(0)}
          unit="mm"
          digits={1}
          range={ranges.cell_mm}
          follows={counted}
          change={(v) => sized([v, v, v])}
        />
      )}
      {hasRows(choice) && <CourseFields />}
      {choice?.seeded && <SeedFields />}
      {isListed(s, bent) && <CleanFields />}
      {sheet && (
        <>
          <RandomNumber />
          <FinerFields />
        </>
      )}
      {sheet && !contact && (
        <p className="muted small">
          The sheet comes to rest in the final mesh: there the angle at which it meets the part's
          surface is measured.
        </p>
      )}
      {contact && (
        <dl className="facts">
          <div>
            <dt>Lean at the part's surface</dt>
            <dd title="How far the sheet is from a right angle to the surface, in the median">
              {contact.median_deg.toFixed(1)}°
            </dd>
          </div>
          <div>
            <dt>Upright within 10°</dt>
            <dd title="Share of the line where the sheet meets the surface">
              {contact.within_ten_percent.toFixed(1)} %
            </dd>
          </div>
        </dl>
      )}
      {hasSize(choice) && (
        <SwitchLine
          label="Size for each axis"
          checked={perAxis}
          onChange={(on) => {
            ask(on)
            if (!on && uneven) edit(sized([x, x, x]))
          }}
        />
      )}
      {bent ? null : (
        <>
          <div className="line">
            <span className="label">Handle in the picture</span>
            <Segmented<Handle>
              size="small"
              aria-label="Handle in the picture"
              value={handle}
              onChange={(h) => useBench.setState({ handle: h })}
              options={
                [
                  { value: null as unknown as string, label: 'Off' },
                  { value: 'shift', label: 'Shift' },
                  { value: 'turn', label: 'Turn' },
                ] as { value: Handle; label: string }[]
              }
            />
          </div>
          <Three
            label="Shift"
            unit="mm"
            values={s.shift_mm}
            onSet={(shift_mm) => edit(withStructure({ shift_mm }))}
          />
          <Three
            label="Turn"
            unit="°"
            values={s.rotation_deg}
            onSet={(rotation_deg) => edit(withStructure({ rotation_deg }))}
          />
        </>
      )}
    </>
  )
}
