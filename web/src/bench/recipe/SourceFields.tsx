import { Button, Segmented } from 'antd'
import type { Grading, GradingSource, Source } from '../../api/client'
import { plain } from '../../shared/format'
import { edit, pick, useBench } from '../state'
import { FacePick } from './FacePick'
import { useFilling } from './filling'
import {
  acrossOf,
  axisName,
  gradingSentence,
  sourceNames,
  withoutSource,
  withSource,
  type Across,
  type Spot,
} from './gradingRules'
import { Group } from './Group'
import { Line, OneOf } from './Lines'
import { NumberLine, TripleLine } from './NumberLine'
import type { Spread } from './useSpread'
import { TableFields } from './TableFields'
import { ValueCurve } from './ValueCurve'
import { faces as counted } from './zoneRules'

const directions: Record<string, [number, number, number]> = {
  x: [1, 0, 0],
  y: [0, 1, 0],
  z: [0, 0, 1],
}

/** One source of a grading: what it is from, and the value by its number. */
export function SourceFields({
  grading: g,
  source,
  n,
  unit,
  others,
  spread,
  limit,
}: {
  grading: Grading
  source: GradingSource
  n: number
  unit: string
  others: readonly Grading[]
  /** How the source's numbers are spread over the part. */
  spread: Spread | undefined
  /** The least value that prints well. */
  limit: { value: number; name: string } | null
}) {
  const several = g.sources.length > 1
  const put = (change: Partial<GradingSource>) => edit(withSource(g.id, n, change))
  const { curve } = source
  const points = (curve?.points ?? []) as Spot[]
  const [near, far] = [points[0], points.at(-1)]
  const end = (i: number, spot: Spot) =>
    curve && put({ curve: { ...curve, points: points.map((p, j) => (i === j ? spot : p)) } })
  return (
    <section className="source">
      <div className="sourcehead">
        <b>{sourceNames[source.from.kind]}</b>
        {several && (
          <Button
            size="small"
            type="text"
            aria-label={`Remove source ${n + 1}`}
            onClick={() => edit(withoutSource(g.id, n))}
          >
            ×
          </Button>
        )}
      </div>
      <From g={g} source={source} n={n} unit={unit} others={others} />
      <Lost grading={g.id} n={n} />
      {curve && near && far && (
        <>
          <Ends
            near={near}
            far={far}
            unit={unit}
            across={acrossOf(source.from)}
            last={points.length - 1}
            end={end}
          />
          <Group name="Curve" sentence={curve.smooth ? 'without corners' : 'straight'}>
            <ValueCurve
              curve={curve}
              unit={unit}
              across={acrossOf(source.from)}
              spread={spread}
              limit={limit}
              set={(next) => withSource(g.id, n, { curve: next })}
            />
          </Group>
        </>
      )}
      {several && (
        <NumberLine
          label="Weight"
          unit="×"
          value={source.weight ?? 1}
          onSet={(weight) => put({ weight })}
        />
      )}
    </section>
  )
}

/** Says so where the part does not have what a source names. */
function Lost({ grading, n }: { grading: number; n: number }) {
  const f = useFilling()
  const lost = f?.picture?.info.linked.lost_sources.find(
    (l) => l.grading === grading && l.source === n && (l.zone ?? null) === f.at,
  )
  if (!lost) return null
  return (
    <p className="remark">
      {lost.faces === 0
        ? 'The part has nothing of this: the source gives no value.'
        : `${counted(lost.faces)} no longer found on the part.`}
    </p>
  )
}

/** The values at both ends of a curve, and where it ends. */
function Ends({
  near,
  far,
  unit,
  across,
  last,
  end,
}: {
  near: Spot
  far: Spot
  unit: string
  /** Unit of the source's numbers; none where they are of a file. */
  across: Across
  last: number
  end: (i: number, spot: Spot) => unknown
}) {
  const at = (x: number) => `Value at ${plain(Number(x.toPrecision(3)))}`
  return (
    <>
      <NumberLine
        label={across ? 'Value there' : at(near[0])}
        unit={unit}
        value={near[1]}
        onSet={(v) => end(0, [near[0], v])}
      />
      {last > 0 && (
        <>
          <NumberLine
            label={across ? 'Value away' : at(far[0])}
            unit={unit}
            value={far[1]}
            onSet={(v) => end(last, [far[0], v])}
          />
          <NumberLine
            label="Over"
            unit={across}
            value={far[0] - near[0]}
            onSet={(v) => end(last, [near[0] + Math.max(v, 1e-3), far[1]])}
          />
        </>
      )}
    </>
  )
}

/** What a source is from. */
function From({
  g,
  source,
  n,
  unit,
  others,
}: {
  g: Grading
  source: GradingSource
  n: number
  unit: string
  others: readonly Grading[]
}) {
  const { from } = source
  const zones = useBench((b) => b.recipe?.zones.list) ?? []
  const bodies = useBench((b) => b.project?.part.list) ?? []
  const recipe = useBench((b) => b.recipe)
  const put = (next: Source) => edit(withSource(g.id, n, { from: next }))
  if (from.kind === 'faces' || from.kind === 'rim')
    return <FacePick of={{ of: 'source', index: n }} faces={from.faces} />
  if (from.kind === 'zone')
    return (
      <OneOf
        label="Zone"
        value={from.id}
        options={zones.map((z) => ({ value: z.id, label: z.name }))}
        onChange={(id) => put({ ...from, id })}
      />
    )
  if (from.kind === 'body')
    return (
      <OneOf
        label="Body"
        value={from.name}
        options={bodies.map((b) => ({ value: b.name, label: b.name }))}
        onChange={(name) => put({ ...from, name })}
      />
    )
  if (from.kind === 'grading') {
    const words = (o: Grading) => (recipe ? gradingSentence(o, true, recipe) : o.name)
    return (
      <OneOf
        label="Grading"
        value={from.id}
        options={others.map((o) => ({ value: o.id, label: words(o) }))}
        onChange={(id) => put({ ...from, id })}
      />
    )
  }
  if (from.kind === 'direction' || from.kind === 'axis') {
    const place = from.kind === 'direction' ? from.from_mm : from.through_mm
    return (
      <>
        <Line label="Along">
          <Segmented
            size="small"
            aria-label="Along"
            value={axisName(from.along)}
            options={['x', 'y', 'z'].map((value) => ({ value, label: value.toUpperCase() }))}
            onChange={(a) => put({ ...from, along: directions[a] ?? from.along })}
          />
        </Line>
        <TripleLine
          label={from.kind === 'direction' ? 'From' : 'Through'}
          unit="mm"
          value={place}
          onSet={(p) =>
            put(from.kind === 'direction' ? { ...from, from_mm: p } : { ...from, through_mm: p })
          }
        />
      </>
    )
  }
  if (from.kind === 'line')
    return (
      <>
        {from.points_mm.map((p, i) => (
          <TripleLine
            key={i}
            label={`Point ${i + 1}`}
            unit="mm"
            value={p}
            onSet={(to) =>
              put({ ...from, points_mm: from.points_mm.map((q, j) => (i === j ? to : triple(q))) })
            }
          />
        ))}
        <div className="line">
          <Button
            size="small"
            onClick={() =>
              put({ ...from, points_mm: [...from.points_mm.map(triple), beyond(from.points_mm)] })
            }
          >
            Add a point
          </Button>
          <Button
            size="small"
            type="text"
            disabled={from.points_mm.length < 3}
            onClick={() => put({ ...from, points_mm: from.points_mm.slice(0, -1).map(triple) })}
          >
            Remove the last
          </Button>
        </div>
      </>
    )
  if (from.kind === 'table') return <TableFields grading={g} source={source} from={from} n={n} />
  return from.kind === 'points' ? <Points g={g} from={from} n={n} unit={unit} /> : null
}

const triple = (p: readonly number[]): [number, number, number] => [p[0] ?? 0, p[1] ?? 0, p[2] ?? 0]

/** A next point of a line: as far from the last as that is from the one before. */
function beyond(points: readonly (readonly number[])[]): [number, number, number] {
  const [a, b] = [triple(points.at(-2) ?? [0, 0, 0]), triple(points.at(-1) ?? [0, 0, 0])]
  return triple(b.map((v, i) => Number((2 * v - (a[i] ?? 0)).toFixed(2))))
}

/** Values at places: a table, to which clicks on the part add. */
function Points({
  g,
  from,
  n,
  unit,
}: {
  g: Grading
  from: Extract<Source, { kind: 'points' }>
  n: number
  unit: string
}) {
  const picking = useBench((b) => b.picking === 'point')
  const put = (points: typeof from.points) =>
    edit(withSource(g.id, n, { from: { ...from, points } }))
  return (
    <>
      {from.points.map((p, i) => (
        <div key={i} className="valuepoint">
          <TripleLine
            label={`Point ${i + 1}`}
            unit="mm"
            value={p.place_mm}
            onSet={(place_mm) => put(from.points.map((q, j) => (i === j ? { ...q, place_mm } : q)))}
          />
          <div className="line">
            <NumberLine
              label={`Value at point ${i + 1}`}
              unit={unit}
              value={p.value}
              onSet={(value) => put(from.points.map((q, j) => (i === j ? { ...q, value } : q)))}
            />
            <Button
              size="small"
              type="text"
              aria-label={`Remove point ${i + 1}`}
              disabled={from.points.length < 2}
              onClick={() => put(from.points.filter((_, j) => j !== i))}
            >
              ×
            </Button>
          </div>
        </div>
      ))}
      <div className="line">
        <Button
          size="small"
          type={picking ? 'primary' : 'default'}
          onClick={() => {
            useBench.setState({ chosen: { of: 'source', index: n } })
            void pick(picking ? null : 'point')
          }}
        >
          {picking ? 'Done placing' : 'Place points on the part'}
        </Button>
      </div>
    </>
  )
}
