import { Button, InputNumber, Segmented } from 'antd'
import { useState } from 'react'
import type { Recipe } from '../../api/client'
import { plain } from '../../shared/format'
import { edit, useBench, type Handle } from '../state'
import { CellEditor } from './CellEditor'
import { CleanFields } from './CleanFields'
import { courseOf } from './courseRules'
import { CourseFields } from './CourseFields'
import { Chooser } from './Chooser'
import { useFilling } from './filling'
import { ownOf } from './zoneRules'
import { FacePick } from './FacePick'
import { FillingChoice } from './FillingChoice'
import { gradedSizes, leastShare } from './gradingRules'
import { Group } from './Group'
import { followedFaces } from './followedRules'
import { ChoiceLine, SwitchLine } from './Lines'
import { leave } from './NumberLine'
import {
  cleanOf,
  hasRows,
  isUpright,
  kindOf,
  seedsOf,
  uprightOf,
  withOf,
  withPattern,
  withSeeds,
  type Form,
} from './patternRules'
import { RandomNumber, SeedCounts, SeedFields } from './SeedFields'
import {
  along,
  cells,
  choiceOf,
  forms,
  hasSize,
  put,
  useChoices,
  withStructure,
  type S,
  type Triple,
} from './structureRules'
import { Value } from './Value'

export function StructureSentence() {
  const s = useBench((b) => b.recipe?.structure)
  const own = useBench(
    ({ recipe }) => recipe?.zones.list.filter((_, i) => ownOf(recipe, i)).length ?? 0,
  )
  const choices = useChoices()
  const recipe = useBench((b) => b.recipe)
  if (!s || !recipe) return null
  const graded = gradedSizes(recipe)
  const counted = !!seedsOf(s.pattern)?.count
  const choice = choiceOf(choices, kindOf(s.pattern))
  const turned = s.rotation_deg.some((v) => v !== 0)
  const moved = s.shift_mm.some((v) => v !== 0)
  return (
    <>
      <b>
        {choice?.title}
        {s.pattern.kind === 'surface' && ` ${forms[s.pattern.form]}`}
      </b>
      ,{' '}
      {graded && !counted ? `${plain(graded.mm[0])} to ${plain(graded.mm[1])} mm cells` : cells(s)}
      {graded && counted && ', graded'}
      {hasRows(s.pattern) &&
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

/** Walls along an axis of the part, and on no face. */
const alongAxis = (a: keyof typeof along) => (r: Recipe) =>
  withStructure({ rotation_deg: along[a] })(
    withPattern((p) => (isUpright(p) ? { ...p, upright: null } : p))(r),
  )

/** The size leads again, not a count of seed points. */
const sized = (cell_mm: Triple) => (r: Recipe) =>
  withSeeds({ count: null, surface_count: null })(withStructure({ cell_mm })(r))

export function Structure() {
  const f = useFilling()
  const s = f?.filling.structure
  const choice = choiceOf(useChoices(), s ? kindOf(s.pattern) : 'gyroid')
  const uneven = new Set(s?.cell_mm).size > 1
  const [asked, ask] = useState(false)
  const perAxis = asked || uneven
  if (!f || !s) return null
  const { ranges } = f.project
  const [x = 1] = s.cell_mm
  // What is found is the size of the smallest cells.
  const least = leastShare(f.filling)
  const graded = gradedSizes(f.filling)
  const short = (v: number) => Number(v.toPrecision(3))
  const { pattern } = s
  const seeds = seedsOf(pattern)
  const counted = !!(seeds?.count ?? seeds?.surface_count)
  const shown = (i: number) =>
    counted && !uneven ? (f.found ? f.found.cell_mm / least : x) : (s.cell_mm[i] ?? x)
  const sheet = pattern.kind === 'foam_sheet'
  const contact = sheet ? f.found?.structure?.contact : null
  // Rows that bend follow the part.
  const bent = courseOf(s).course !== 'straight'
  const upright = uprightOf(pattern)
  const direction = (['x', 'y', 'z'] as const).find((a) =>
    along[a].every((v, i) => v === s.rotation_deg[i]),
  )
  return (
    <>
      <FillingChoice />
      <Chooser />
      {pattern.kind === 'surface' && (
        <Segmented<Form>
          block
          size="small"
          aria-label="Form"
          value={pattern.form}
          options={[
            { value: 'walls', label: 'Walls' },
            { value: 'network', label: 'Network' },
            { value: 'other_network', label: 'Other side' },
          ]}
          onChange={(form) => edit(withOf('surface', { form }))}
        />
      )}
      {pattern.kind === 'own_cell' && <CellEditor cell={pattern.own} />}
      {choice?.family === 'extruded' && (
        <ChoiceLine
          label="Walls run along"
          value={upright ? '' : (direction ?? '')}
          options={(['x', 'y', 'z'] as const).map((a) => ({ value: a, label: a.toUpperCase() }))}
          onChange={(a) => edit(alongAxis(a))}
        />
      )}
      {choice?.family === 'extruded' && (
        <>
          <p className="muted small">
            {upright
              ? 'Upright on the face picked, or along its axis:'
              : 'or upright on a face, or along the axis of a round one:'}
          </p>
          <FacePick of={{ of: 'upright', index: 0 }} faces={followedFaces(s, 'upright') ?? []} />
        </>
      )}
      {graded && (
        <div className="line">
          <span className="label">
            Cell size
            <small>{graded.fixed ? 'graded in mm' : 'graded around the value below'}</small>
          </span>
          <Button size="small" onClick={() => useBench.setState({ step: 'grading' })}>
            {plain(short(graded.mm[0]))} to {plain(short(graded.mm[1]))} mm
          </Button>
        </div>
      )}
      {!hasSize(choice) || graded?.fixed ? null : perAxis ? (
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
      <SeedCounts />
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
      {hasRows(pattern) && <CourseFields />}
      {seeds && <SeedFields />}
      {cleanOf(pattern) && <CleanFields />}
      {hasSize(choice) && (
        <PlaceGroup
          structure={s}
          bent={bent}
          perAxis={perAxis}
          onPerAxis={(on) => {
            ask(on)
            if (!on && uneven) edit(sized([x, x, x]))
          }}
        />
      )}
      <RandomNumber />
    </>
  )
}

/** How the lattice is shifted and turned, and whether its cells have a size for each axis. */
function PlaceGroup({
  structure: { shift_mm, rotation_deg },
  bent,
  perAxis,
  onPerAxis,
}: {
  structure: S
  bent: boolean
  perAxis: boolean
  onPerAxis: (on: boolean) => void
}) {
  const handle = useBench((b) => b.handle)
  const [shifted, turned] = [shift_mm, rotation_deg].map((v) => v.some((one) => one !== 0))
  const words = bent
    ? 'rows follow the part'
    : `${shifted ? 'shifted' : 'not shifted'}, ${turned ? 'turned' : 'not turned'}`
  return (
    <Group name="Place" sentence={words}>
      <SwitchLine label="Size for each axis" checked={perAxis} onChange={onPerAxis} />
      {!bent && (
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
            values={shift_mm}
            onSet={(shift_mm) => edit(withStructure({ shift_mm }))}
          />
          <Three
            label="Turn"
            unit="°"
            values={rotation_deg}
            onSet={(rotation_deg) => edit(withStructure({ rotation_deg }))}
          />
        </>
      )}
    </Group>
  )
}
