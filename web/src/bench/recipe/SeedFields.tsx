import { Button } from 'antd'
import { api, type Recipe } from '../../api/client'
import { count, mm } from '../../shared/format'
import { edit, useBench } from '../state'
import { useFilling } from './filling'
import { FromFile } from './FromFile'
import { Group } from './Group'
import { ChoiceLine, SwitchLine } from './Lines'
import { NumberLine } from './NumberLine'
import { Value } from './Value'
import {
  randomOf,
  seedsOf,
  withOf,
  withPattern,
  withRandom,
  withSeeds,
  type PatternOf,
  type Seeds,
} from './patternRules'

type Net = NonNullable<PatternOf<'voronoi'>['net']>

/** The integer that repeats an arrangement. */
export function RandomNumber() {
  const pattern = useFilling()?.filling.structure.pattern
  const random = pattern ? randomOf(pattern) : null
  if (random === null) return null
  return (
    <Group name="Random number" sentence={random}>
      <div className="line">
        <NumberLine
          label="Random number"
          unit=""
          value={random}
          onSet={(v) => edit(withRandom(Math.max(0, Math.round(v))))}
        />
        <Button size="small" onClick={() => edit(withRandom(random + 1))}>
          Another
        </Button>
      </div>
    </Group>
  )
}

/** Seed points that come from a table. */
function OwnPoints() {
  const f = useFilling()
  const seeds = f && seedsOf(f.filling.structure.pattern)
  if (!f || !seeds) return null
  const { own } = seeds
  return (
    <FromFile
      title={own ? own.name : 'Own points'}
      detail={
        own
          ? `${count(f.found?.structure?.seeds ?? 0)} of ${count(own.points_mm.length)} inside the part`
          : 'a CSV file, in mm'
      }
      label="File of points"
      accept=".csv,.txt,text/csv"
      button={own ? 'Scatter again' : 'Choose a file'}
      onClick={own ? () => edit(withSeeds({ own: null })) : undefined}
      // They stay where they are, until rounds are asked for.
      read={async (file) => edit(withSeeds({ own: await api.points(file), rounds: 0 }))}
    />
  )
}

/** A number of points: one that is set, or as many as the cell size gives. */
function Points({
  where,
  set,
  found,
  change,
}: {
  where: string
  set: number | null | undefined
  found: number | undefined
  change: (count: number) => (r: Recipe) => Recipe
}) {
  const points = set ?? found ?? 0
  return (
    <Value
      label="Points"
      hint={where}
      value={points}
      unit=""
      digits={0}
      range={[10, Math.max(1000, 2 * points)]}
      follows={!set}
      change={(v) => change(Math.max(1, Math.round(v)))}
    />
  )
}

/** Rounds of relaxing: how many are asked for, where they are, and what they came to. */
function Relaxing() {
  const f = useFilling()
  const under = useBench((b) => b.relaxing)
  const seeds = f && seedsOf(f.filling.structure.pattern)
  if (!f || !seeds) return null
  const { rounds } = seeds
  const found = f.found?.structure
  const stopped = found && found.rounds > 0 && found.rounds < rounds
  return (
    <>
      <Value
        label="Relaxed"
        hint="rounds"
        value={rounds}
        unit=""
        digits={0}
        range={[0, 40]}
        change={(v) => withSeeds({ rounds: Math.max(0, Math.round(v)) })}
      />
      {under && under.of === rounds ? (
        <div className="line">
          <span className="label">
            Round {count(under.rounds)} of {count(under.of)}
          </span>
          <Button size="small" onClick={() => edit(withSeeds({ rounds: under.rounds }))}>
            Stop here
          </Button>
        </div>
      ) : (
        found &&
        found.rounds > 0 && (
          <p className="muted small">
            {stopped
              ? `Nothing moves any more after ${count(found.rounds)} rounds.`
              : `In the last round points moved by ${found.moved_mm.toFixed(2)} mm at most.`}
          </p>
        )
      )}
    </>
  )
}

/** Limits of the lengths of struts between points. */
const withLengths = (change: Partial<PatternOf<'delaunay'>['lengths']>) =>
  withPattern((p) => ('lengths' in p ? { ...p, lengths: { ...p.lengths, ...change } } : p))

/**
 * Where points lie. Cells of points on the surface alone meet in the middle of the part: their net
 * is what is meant.
 */
const laid = (layout: Seeds['layout']) => (r: Recipe) =>
  withPattern((p) =>
    p.kind === 'voronoi' && p.net ? { ...p, net: { ...p.net, inner: layout !== 'surface' } } : p,
  )(withSeeds({ layout })(r))

/** The net of struts in which a lattice ends at the part's surface. */
function NetGroup({ net }: { net: Net | null }) {
  const set = (net: Net | null) => edit(withOf('voronoi', { net }))
  const words = net
    ? `on${net.edges ? ', with sharp edges' : ''}${net.inner ? '' : ', nothing inside'}`
    : 'off'
  return (
    <Group name="Net at the surface" sentence={words}>
      <SwitchLine
        label="Closed by a net"
        name="Net at the surface"
        checked={!!net}
        onChange={(on) => set(on ? { inner: true, edges: true } : null)}
      />
      {net && (
        <>
          <SwitchLine
            label="Struts inside too"
            checked={net.inner}
            onChange={(inner) => set({ ...net, inner })}
          />
          <SwitchLine
            label="Struts along sharp edges"
            checked={net.edges}
            onChange={(edges) => set({ ...net, edges })}
          />
        </>
      )}
    </Group>
  )
}

/** How many seed points there are, inside and on the surface. */
export function SeedCounts() {
  const f = useFilling()
  const seeds = f && seedsOf(f.filling.structure.pattern)
  if (!f || !seeds || seeds.own) return null
  const found = f.found?.structure
  return (
    <>
      {seeds.layout !== 'surface' && (
        <Points
          where="inside the part"
          set={seeds.count}
          found={found?.seeds}
          change={(count) => withSeeds({ count })}
        />
      )}
      {seeds.layout !== 'inside' && (
        <Points
          where="on the surface"
          set={seeds.surface_count}
          found={found?.surface_seeds}
          change={(surface_count) => withSeeds({ surface_count })}
        />
      )}
    </>
  )
}

const layoutWords = {
  inside: 'inside the part',
  surface: 'on the surface',
  both: 'inside and on the surface',
}

/** How seed points lie, how even they are, and what joins them: each under a name of its own. */
export function SeedFields() {
  const f = useFilling()
  const pattern = f?.filling.structure.pattern
  const seeds = pattern && seedsOf(pattern)
  if (!f || !pattern || !seeds) return null
  const planar = pattern.kind === 'planar_voronoi'
  const onSurface = seeds.layout !== 'inside'
  const lie = seeds.own
    ? `from ${seeds.own.name}`
    : `${layoutWords[seeds.layout]}, ${seeds.spread}, relaxed ${count(seeds.rounds)} rounds`
  return (
    <>
      <Group name="Seed points" sentence={lie}>
        <OwnPoints />
        {!seeds.own && (
          <>
            {!planar && (
              <ChoiceLine<Seeds['layout']>
                label="Points lie"
                value={seeds.layout}
                options={[
                  { value: 'inside', label: 'Inside' },
                  { value: 'surface', label: 'On the surface' },
                  { value: 'both', label: 'Both' },
                ]}
                onChange={(layout) => edit(laid(layout))}
              />
            )}
            {/* Relaxing would spread them by area again. */}
            {onSurface && (
              <SwitchLine
                label="Evenly as seen along Z"
                checked={!!seeds.from_above}
                onChange={(from_above) =>
                  edit(withSeeds(from_above ? { from_above, rounds: 0 } : { from_above }))
                }
              />
            )}
            <ChoiceLine<Seeds['spread']>
              label="Spread"
              value={seeds.spread}
              options={[
                { value: 'even', label: 'Even' },
                { value: 'loose', label: 'Loose' },
              ]}
              onChange={(spread) => edit(withSeeds({ spread }))}
            />
          </>
        )}
        {!seeds.own && seeds.spread === 'loose' && (
          <Value
            label="Apart, at least"
            hint="share of a cell"
            value={100 * seeds.apart}
            unit="%"
            digits={0}
            range={[0, 70]}
            change={(v) => withSeeds({ apart: v / 100 })}
          />
        )}
        <Relaxing />
        <SeedFacts />
      </Group>
      {'lengths' in pattern && <StrutGroup pattern={pattern} />}
      {pattern.kind === 'voronoi_walls' && (
        <Value
          label="Holes in walls"
          hint="of their width"
          value={100 * pattern.holes}
          unit="%"
          digits={0}
          range={[0, 90]}
          change={(v) => withOf('voronoi_walls', { holes: v / 100 })}
        />
      )}
      {pattern.kind === 'voronoi' && <NetGroup net={pattern.net ?? null} />}
    </>
  )
}

/** Between which points struts run. */
function StrutGroup({ pattern }: { pattern: PatternOf<'delaunay'> | PatternOf<'neighbours'> }) {
  const { shortest, longest } = pattern.lengths
  const percent = (v: number) => `${(100 * v).toFixed(0)} %`
  const limits = `${percent(shortest)} to ${percent(longest)} of a cell`
  return (
    <Group
      name="Struts"
      sentence={
        pattern.kind === 'neighbours' ? `${pattern.neighbours} from each point, ${limits}` : limits
      }
    >
      {pattern.kind === 'neighbours' && (
        <NumberLine
          label="Struts from each point"
          unit=""
          value={pattern.neighbours}
          onSet={(v) => edit(withOf('neighbours', { neighbours: Math.round(v) }))}
        />
      )}
      <Value
        label="No struts below"
        hint="share of a cell"
        value={100 * shortest}
        unit="%"
        digits={0}
        range={[0, 100]}
        change={(v) => withLengths({ shortest: v / 100 })}
      />
      <Value
        label="None above"
        hint="share of a cell"
        value={100 * longest}
        unit="%"
        digits={0}
        range={[50, 300]}
        change={(v) => withLengths({ longest: v / 100 })}
      />
    </Group>
  )
}

/** What was found of the points. */
function SeedFacts() {
  const found = useFilling()?.found?.structure
  return (
    found && (
      <dl className="facts">
        <div>
          <dt>Unevenness of the cells</dt>
          <dd>{(100 * found.unevenness).toFixed(0)} %</dd>
        </div>
        <div>
          <dt>Two nearest points</dt>
          <dd>{mm(found.closest_mm)}</dd>
        </div>
      </dl>
    )
  )
}
