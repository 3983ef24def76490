import { Button, Dropdown, Segmented } from 'antd'
import { lazy, Suspense } from 'react'
import type { Grading as GradingOf, SizeFit } from '../../api/client'
import { useOptions } from '../../api/useOptions'
import { scale } from '../../theme/tokens'
import { edit, pick, useBench } from '../state'
import { FillingChoice } from './FillingChoice'
import { fillingNumber, useFilling } from './filling'
import { ownOf } from './zoneRules'
import {
  firstEnds,
  firstGiven,
  firstGrading,
  firstSource,
  givenNames,
  gradingSentence,
  gradingsOf,
  ruleNames,
  setBy,
  sizesByPlace,
  sourceNames,
  unitOf,
  valueName,
  withGiven,
  withGrading,
  withGradingAdded,
  withoutGrading,
  withSourceAdded,
  type Given,
  type GradedValue,
  type Rule,
  type SourceKind,
} from './gradingRules'
import { Line, OneOf } from './Lines'
import { NumberLine } from './NumberLine'
import { SourceFields } from './SourceFields'
import { useSpreads } from './useSpread'
import './grading.css'

const DensityPlot = lazy(() => import('./DensityPlot'))

/** What is graded, in one line. */
export function GradingSentence() {
  const recipe = useBench((b) => b.recipe)
  const walls = useBench((b) => b.picture?.info.linked.walls ?? true)
  if (!recipe) return null
  const [first, ...more] = gradingsOf(recipe).filter((g) => g.sources.length > 0)
  const own = recipe.zones.list.reduce(
    (sum, _, i) => sum + (ownOf(recipe, i)?.gradings?.length ?? 0),
    0,
  )
  const others = more.length + own
  if (!first) return others > 0 ? <>{others} in zones</> : <>Nothing is graded</>
  return (
    <>
      {gradingSentence(first, walls, recipe)}
      {others > 0 && `; ${others} more`}
    </>
  )
}

/** Where first points and axes lie, and what first sources name. */
function useSurroundings() {
  const part = useBench((b) => b.project?.part)
  const zone = useBench((b) => b.recipe?.zones.list[0])
  const [x = 0, y = 0, z = 0] = part?.min_mm ?? []
  const [a = 1, b = 1, c = 1] = part?.size_mm ?? []
  const middle = [x + a / 2, y + b / 2, z + c / 2]
  return {
    place: { middle, low: z, high: z + c, across: Math.max(a, b, c) },
    names: { zone, body: part?.list[0]?.name },
  }
}

/** The least thickness that prints well in the recipe's material, where that is known. */
function useLeastThickness() {
  const { data } = useOptions()
  const name = useBench((b) => b.recipe?.material.name)
  const found = data?.materials.find((m) => m.name === name)
  return found ? { value: found.least_mm, name: `${found.name}: ${found.least_mm} mm` } : null
}

/** Values that change from place to place. */
export function Grading() {
  const f = useFilling()
  const open = useBench((b) => b.grading)
  const add = useAdding()
  if (!f) return null
  const all = gradingsOf(f.filling)
  const walls = f.found?.walls ?? true
  const led = (of: GradedValue) => all.some((g) => g.of === of && g.sources.length > 0)
  const sizes = sizesByPlace(f.filling)
  const waiting = all.find((g) => g.of === 'cell_size' && g.sources.length > 0 && !sizes)
  return (
    <>
      <FillingChoice />
      {all.length === 0 && (
        <p className="muted small">
          A thickness or a cell size that changes from place to place: by the distance from faces,
          zones or lines, along a direction, or from point to point.
        </p>
      )}
      {all.map((g) => (
        <section key={g.id} className={g.id === open ? 'grading open' : 'grading'}>
          <button
            className="gradinghead"
            aria-expanded={g.id === open}
            onClick={() =>
              useBench.setState({
                grading: g.id === open ? null : g.id,
                chosen: null,
                point: null,
              })
            }
          >
            <i
              style={{ background: `linear-gradient(180deg, ${[...scale].reverse().join(', ')})` }}
            />
            <span>{gradingSentence(g, walls, f.recipe)}</span>
          </button>
          {g.id === open && <GradingFields grading={g} walls={walls} />}
        </section>
      ))}
      {waiting && (
        <p className="remark">
          Cells are of one size here: planar Voronoi, rows that bend and what comes from a file say
          themselves how large they are. The grading of the cell size waits for another structure.
        </p>
      )}
      <div className="line gradingadd">
        {!led('thickness') && !led('density') && (
          <>
            <SourceMenu
              label={`Grade the ${valueName('thickness', walls).toLowerCase()}`}
              onAdd={(kind) => add('thickness', kind)}
            />
            <SourceMenu label="Grade the density" onAdd={(kind) => add('density', kind)} />
          </>
        )}
        {!led('cell_size') && sizes && (
          <SourceMenu label="Grade the cell size" onAdd={(kind) => add('cell_size', kind)} />
        )}
      </div>
    </>
  )
}

/** Adds a grading of a value by a source of a kind, and opens it; faces are picked at once. */
function useAdding() {
  const { place, names } = useSurroundings()
  const f = useFilling()
  return (of: GradedValue, kind: SourceKind) => {
    if (!f) return
    const set = setBy(of, f.filling, f.found)
    const ends = firstEnds(of, firstGiven(of, f.filling), set)
    const grading = firstGrading(f.filling, of, firstSource(kind, ends, place, names))
    void edit(withGradingAdded(grading))
    useBench.setState({ grading: grading.id, point: null })
    if (kind === 'faces' || kind === 'rim') {
      useBench.setState({ chosen: { of: 'source', index: 0 } })
      void pick('faces')
    }
  }
}

/** Sources in the order in which they are offered. */
const offered: SourceKind[] = [
  'faces',
  'rim',
  'direction',
  'points',
  'surface',
  'zone',
  'solids',
  'axis',
  'line',
  'body',
  'table',
  'grading',
]

/** Offers the kinds of sources that there can be; `others`: gradings that can be followed. */
function SourceMenu({
  label,
  others = 0,
  onAdd,
}: {
  label: string
  others?: number
  onAdd: (kind: SourceKind) => void
}) {
  const zones = useBench((b) => b.recipe?.zones.list.length ?? 0)
  const bodies = useBench((b) => b.project?.part.list.length ?? 0)
  const lacking: Partial<Record<SourceKind, boolean>> = {
    zone: zones === 0,
    body: bodies < 2,
    grading: others === 0,
  }
  return (
    <Dropdown
      trigger={['click']}
      menu={{
        items: offered
          .filter((kind) => !lacking[kind])
          .map((key) => ({ key, label: sourceNames[key] })),
        onClick: ({ key }) => onAdd(key as SourceKind),
      }}
    >
      <Button size="small">{label}</Button>
    </Dropdown>
  )
}

/** What one grading is made of. */
function GradingFields({ grading: g, walls }: { grading: GradingOf; walls: boolean }) {
  const { place, names } = useSurroundings()
  const f = useFilling()
  const spreads = useSpreads(g)
  const least = useLeastThickness()
  const limit = g.of === 'thickness' && g.given === 'value' ? least : null
  const set = (change: Partial<GradingOf>) => edit(withGrading(g.id, () => change))
  const unit = unitOf(g)
  if (!f) return null
  const now = setBy(g.of, f.filling, f.found)
  const windows = f.picture?.info.report.density_windows[fillingNumber(f.recipe, f.at)] ?? []
  const others = gradingsOf(f.filling).filter((o) => o.id !== g.id)
  const addSource = (kind: SourceKind) => {
    const source = firstSource(kind, firstEndsOf(g), place, { ...names, other: others[0]?.id })
    void edit(withSourceAdded(g.id, source))
  }
  return (
    <div className="gradingbody">
      {g.of !== 'density' && (
        <Line label="Values are">
          <Segmented<Given>
            size="small"
            aria-label="Values are"
            value={g.given}
            options={(['value', 'percent', 'added'] as const).map((value) => ({
              value,
              label: givenNames[value],
              title: givenHints[value],
            }))}
            onChange={(given) => edit(withGiven(g.id, given, now))}
          />
        </Line>
      )}
      {g.sources.map((s, n) => (
        <SourceFields
          key={n}
          grading={g}
          source={s}
          n={n}
          unit={unit}
          others={others}
          spread={spreads[n]}
          limit={limit}
        />
      ))}
      {g.sources.length > 1 && (
        <OneOf<Rule>
          label="Together"
          width={130}
          value={g.rule}
          options={(Object.keys(ruleNames) as Rule[]).map((value) => ({
            value,
            label: ruleNames[value],
          }))}
          onChange={(rule) => set({ rule })}
        />
      )}
      {g.of === 'density' && windows.length > 0 && (
        <Suspense fallback={<div className="densityplot" />}>
          <DensityPlot windows={windows} />
        </Suspense>
      )}
      {g.of === 'cell_size' && <SizesKept fit={f.found?.structure?.sizes} />}
      {g.of !== 'cell_size' && (
        <NumberLine
          label={`${walls ? 'Walls' : 'Struts'} end below`}
          unit="mm"
          value={g.ends_mm ?? 0}
          onSet={(ends_mm) => set({ ends_mm })}
        />
      )}
      <div className="line">
        <SourceMenu label="Add a source" others={others.length} onAdd={addSource} />
        <Button size="small" type="text" onClick={() => edit(withoutGrading(g.id))}>
          Remove the grading
        </Button>
      </div>
    </div>
  )
}

/** How well cells that repeat keep the sizes that are asked. */
function SizesKept({ fit }: { fit: SizeFit | null | undefined }) {
  if (!fit) return null
  const [least = 0, most = 0] = fit.found_mm
  return (
    <dl className="facts">
      <div>
        <dt>Cells in the part</dt>
        <dd>
          {least.toFixed(1)} to {most.toFixed(1)} mm
        </dd>
      </div>
      <div>
        <dt>Off by more than a tenth</dt>
        <dd title={`In 95 of 100 places the size is within ${fit.off_percent.toFixed(0)} %`}>
          {fit.beyond_percent.toFixed(0)} % of the fill
        </dd>
      </div>
    </dl>
  )
}

const givenHints: Record<Given, string> = {
  value: 'The value itself',
  percent: 'A share of what its own step sets',
  added: 'More or less than what its own step sets',
}

/** Values at both ends of the first source's curve. */
function firstEndsOf(g: GradingOf): [number, number] {
  const points = g.sources[0]?.curve?.points
  return [points?.[0]?.[1] ?? 1, points?.at(-1)?.[1] ?? 1]
}
