import { Button, Dropdown, Segmented } from 'antd'
import type { Grading as GradingOf, Recipe } from '../../api/client'
import { scale } from '../../theme/tokens'
import { edit, pick, useBench } from '../state'
import { FillingChoice } from './FillingChoice'
import { filledAt, ownOf } from './zoneRules'
import { fillingOf, useFilling } from './filling'
import {
  firstEnds,
  firstGrading,
  firstSource,
  givenNames,
  gradingSentence,
  gradingsOf,
  ruleNames,
  sizesByPlace,
  sourceNames,
  unitOf,
  valueName,
  withGrading,
  withGradingAdded,
  withoutGrading,
  withSourceAdded,
  type Given,
  type GradedValue,
  type Rule,
  type SourceKind,
} from './gradingRules'
import { Line } from './Lines'
import { NumberLine } from './NumberLine'
import { SourceFields } from './SourceFields'
import './grading.css'

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

/** Where the first points and axes lie, and what can be named. */
function useSurroundings() {
  const part = useBench((b) => b.project?.part)
  const [x = 0, y = 0, z = 0] = part?.min_mm ?? []
  const [a = 1, b = 1, c = 1] = part?.size_mm ?? []
  const middle = [x + a / 2, y + b / 2, z + c / 2]
  return {
    place: { middle, low: z, high: z + c, across: Math.max(a, b, c) },
    bodies: part?.list ?? [],
  }
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
              useBench.setState({ grading: g.id === open ? null : g.id, chosen: null })
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
          Cells of this kind are of one size everywhere. Voronoi, Delaunay, nearest neighbours and
          the foam sheet can change theirs: the grading of the cell size waits for one of them.
        </p>
      )}
      <div className="line gradingadd">
        {!led('thickness') && (
          <AddButton
            label={`Grade the ${valueName('thickness', walls).toLowerCase()}`}
            onAdd={(kind) => add('thickness', kind)}
          />
        )}
        {!led('cell_size') && sizes && (
          <AddButton label="Grade the cell size" onAdd={(kind) => add('cell_size', kind)} />
        )}
      </div>
    </>
  )
}

/** Adds a grading of a value by a source of a kind, and opens it; faces are picked at once. */
function useAdding() {
  const { place, bodies } = useSurroundings()
  return (of: GradedValue, kind: SourceKind) => {
    const { recipe, filled, picture } = useBench.getState()
    if (!recipe) return
    const at = filledAt(recipe, filled)
    const filling = fillingOf(recipe, at)
    const found = (at === null ? null : picture?.info.linked.own[at]) ?? picture?.info.linked
    const cell = Math.min(...filling.structure.cell_mm)
    const now = of === 'cell_size' ? cell : (found?.thickness_mm ?? cell / 8)
    const source = firstSource(kind, firstEnds(of, now), place, {
      zone: recipe.zones.list[0],
      body: bodies[0]?.name,
    })
    const grading = firstGrading(filling, of, source)
    const given = grading.given === 'percent' ? inPercent(grading) : grading
    void edit(withGradingAdded(given))
    useBench.setState({ grading: grading.id })
    if (kind === 'faces') {
      useBench.setState({ chosen: { of: 'source', index: 0 } })
      void pick('faces')
    }
  }
}

/** First values as shares: twice and once what the step sets. */
function inPercent(g: GradingOf): GradingOf {
  const shares = [160, 80]
  return {
    ...g,
    sources: g.sources.map((s) => ({
      ...s,
      from:
        s.from.kind === 'points'
          ? { ...s.from, points: s.from.points.map((p) => ({ ...p, value: 160 })) }
          : s.from,
      curve: s.curve && {
        ...s.curve,
        points: s.curve.points.map((p, i) => [p[0] ?? 0, shares[i] ?? 100] as [number, number]),
      },
    })),
  }
}

/** Sources in the order in which they are offered. */
const offered: SourceKind[] = [
  'faces',
  'direction',
  'points',
  'surface',
  'zone',
  'solids',
  'axis',
  'line',
  'body',
]

function AddButton({ label, onAdd }: { label: string; onAdd: (kind: SourceKind) => void }) {
  const zones = useBench((b) => (b.recipe?.zones.list.length ?? 0) > 0)
  const bodies = useBench((b) => (b.project?.part.list.length ?? 0) > 1)
  const can = (kind: SourceKind) => (kind !== 'zone' || zones) && (kind !== 'body' || bodies)
  return (
    <Dropdown
      trigger={['click']}
      menu={{
        items: offered.filter(can).map((key) => ({ key, label: sourceNames[key] })),
        onClick: ({ key }) => onAdd(key as SourceKind),
      }}
    >
      <Button size="small">{label}</Button>
    </Dropdown>
  )
}

/** What one grading is made of. */
function GradingFields({ grading: g, walls }: { grading: GradingOf; walls: boolean }) {
  const { place, bodies } = useSurroundings()
  const recipe = useBench((b) => b.recipe)
  const set = (change: Partial<GradingOf>) => edit(withGrading(g.id, () => change))
  const unit = unitOf(g.given)
  if (!recipe) return null
  const others = gradingsOf(fillingOf(recipe, useBench.getState().filled)).filter(
    (o) => o.id !== g.id,
  )
  const can = (kind: SourceKind) =>
    (kind !== 'zone' || recipe.zones.list.length > 0) &&
    (kind !== 'body' || bodies.length > 1) &&
    (kind !== 'grading' || others.length > 0)
  const addSource = (kind: SourceKind) => {
    const ends = firstEndsOf(g)
    const names = {
      zone: recipe.zones.list[0],
      body: bodies[0]?.name,
      other: others[0]?.id,
    }
    void edit(withSourceAdded(g.id, firstSource(kind, ends, place, names)))
  }
  return (
    <div className="gradingbody">
      <Line label="Values are">
        <Segmented<Given>
          size="small"
          aria-label="Values are"
          value={g.given}
          options={(['millimetres', 'percent', 'added'] as const).map((value) => ({
            value,
            label: givenNames[value],
            title: givenHints[value],
          }))}
          onChange={(given) => edit(converted(g, given, recipe))}
        />
      </Line>
      {g.sources.map((s, n) => (
        <SourceFields key={n} grading={g} source={s} n={n} unit={unit} others={others} />
      ))}
      {g.sources.length > 1 && (
        <Line label="Together">
          <Segmented<Rule>
            size="small"
            aria-label="Together"
            value={g.rule}
            options={(Object.keys(ruleNames) as Rule[]).map((value) => ({
              value,
              label: ruleNames[value].replace('The ', ''),
            }))}
            onChange={(rule) => set({ rule })}
          />
        </Line>
      )}
      {g.of === 'thickness' && (
        <NumberLine
          label={`${walls ? 'Walls' : 'Struts'} end below`}
          unit="mm"
          value={g.ends_mm ?? 0}
          onSet={(ends_mm) => set({ ends_mm })}
        />
      )}
      <div className="line">
        <Dropdown
          trigger={['click']}
          menu={{
            items: [...offered, 'grading' as const]
              .filter(can)
              .map((key) => ({ key, label: sourceNames[key] })),
            onClick: ({ key }) => addSource(key as SourceKind),
          }}
        >
          <Button size="small">Add a source</Button>
        </Dropdown>
        <Button size="small" type="text" onClick={() => edit(withoutGrading(g.id))}>
          Remove the grading
        </Button>
      </div>
    </div>
  )
}

const givenHints: Record<Given, string> = {
  millimetres: 'The value itself',
  percent: 'A share of what its own step sets',
  added: 'More or less than what its own step sets',
}

/** Values at both ends of the first source's curve. */
function firstEndsOf(g: GradingOf): [number, number] {
  const points = g.sources[0]?.curve?.points
  return [points?.[0]?.[1] ?? 1, points?.at(-1)?.[1] ?? 1]
}

/** The same values given in another way, by what the step sets now. */
function converted(g: GradingOf, given: Given, r: Recipe) {
  const { picture, filled } = useBench.getState()
  const filling = fillingOf(r, filledAt(r, filled))
  const cell = Math.min(...filling.structure.cell_mm)
  const set = g.of === 'cell_size' ? cell : (picture?.info.linked.thickness_mm ?? cell / 8)
  const to = (v: number) => {
    const mm = g.given === 'percent' ? (v / 100) * set : g.given === 'added' ? set + v : v
    const out = given === 'percent' ? (100 * mm) / set : given === 'added' ? mm - set : mm
    return Number(out.toPrecision(3))
  }
  return withGrading(g.id, () => ({
    given,
    sources: g.sources.map((s) => ({
      ...s,
      from:
        s.from.kind === 'points'
          ? { ...s.from, points: s.from.points.map((p) => ({ ...p, value: to(p.value) })) }
          : s.from,
      curve: s.curve && {
        ...s.curve,
        points: s.curve.points.map((p) => [p[0] ?? 0, to(p[1] ?? 0)] as [number, number]),
      },
    })),
  }))
}
