import { Button } from 'antd'
import { api, type Recipe } from '../../api/client'
import { count, mm } from '../../shared/format'
import { edit, useBench } from '../state'
import { useFilling } from './filling'
import { FinerFields } from './FinerFields'
import { FromFile } from './FromFile'
import { ChoiceLine, SwitchLine } from './Lines'
import { NumberLine } from './NumberLine'
import { Value } from './Value'
import { withSeeds, type S } from './structureRules'

/** The integer that repeats an arrangement. */
export function RandomNumber() {
  const random = useFilling()?.filling.structure.seeds.random
  if (random === undefined) return null
  return (
    <div className="line">
      <NumberLine
        label="Random number"
        unit=""
        value={random}
        onSet={(v) => edit(withSeeds({ random: Math.max(0, Math.round(v)) }))}
      />
      <Button size="small" onClick={() => edit(withSeeds({ random: random + 1 }))}>
        Another
      </Button>
    </div>
  )
}

/** Seed points that come from a table. */
function OwnPoints() {
  const f = useFilling()
  if (!f) return null
  const { own } = f.filling.structure.seeds
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
  if (!f) return null
  const { rounds } = f.filling.structure.seeds
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

/** How many seed points, how they lie and how even they are. */
export function SeedFields() {
  const f = useFilling()
  if (!f) return null
  const { kind, seeds } = f.filling.structure
  const found = f.found?.structure
  const onSurface = seeds.layout !== 'inside' && kind !== 'planar_voronoi'
  const inside = seeds.layout !== 'surface' || kind === 'planar_voronoi'
  return (
    <>
      <OwnPoints />
      {!seeds.own && (
        <>
          {kind !== 'planar_voronoi' && (
            <ChoiceLine<S['seeds']['layout']>
              label="Points lie"
              value={seeds.layout}
              options={[
                { value: 'inside', label: 'Inside' },
                { value: 'surface', label: 'On the surface' },
                { value: 'both', label: 'Both' },
              ]}
              // Cells of points on the surface alone meet in the middle of the part: their net is what is meant.
              onChange={(layout) =>
                edit(withSeeds({ layout, inner: layout !== 'surface' || !seeds.net }))
              }
            />
          )}
          {inside && (
            <Points
              where="inside the part"
              set={seeds.count}
              found={found?.seeds}
              change={(count) => withSeeds({ count })}
            />
          )}
          {onSurface && (
            <Points
              where="on the surface"
              set={seeds.surface_count}
              found={found?.surface_seeds}
              change={(surface_count) => withSeeds({ surface_count })}
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
          <ChoiceLine<S['seeds']['spread']>
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
      {kind === 'neighbours' && (
        <NumberLine
          label="Struts from each point"
          unit=""
          value={seeds.neighbours}
          onSet={(v) => edit(withSeeds({ neighbours: Math.round(v) }))}
        />
      )}
      {(kind === 'neighbours' || kind === 'delaunay') && (
        <>
          <Value
            label="No struts below"
            hint="share of a cell"
            value={100 * seeds.shortest}
            unit="%"
            digits={0}
            range={[0, 100]}
            change={(v) => withSeeds({ shortest: v / 100 })}
          />
          <Value
            label="None above"
            hint="share of a cell"
            value={100 * seeds.longest}
            unit="%"
            digits={0}
            range={[50, 300]}
            change={(v) => withSeeds({ longest: v / 100 })}
          />
        </>
      )}
      {kind === 'voronoi_walls' && (
        <Value
          label="Holes in walls"
          hint="of their width"
          value={100 * seeds.holes}
          unit="%"
          digits={0}
          range={[0, 90]}
          change={(v) => withSeeds({ holes: v / 100 })}
        />
      )}
      {kind === 'voronoi' && (
        <SwitchLine
          label="Closed by a net at the surface"
          name="Net at the surface"
          checked={seeds.net}
          onChange={(net) => edit(withSeeds({ net }))}
        />
      )}
      {kind === 'voronoi' && seeds.net && (
        <SwitchLine
          label="Struts inside too"
          checked={seeds.inner}
          onChange={(inner) => edit(withSeeds({ inner }))}
        />
      )}
      {kind === 'voronoi' && seeds.net && (
        <SwitchLine
          label="Struts along sharp edges"
          checked={seeds.edges}
          onChange={(edges) => edit(withSeeds({ edges }))}
        />
      )}
      {kind !== 'planar_voronoi' && <FinerFields />}
      <RandomNumber />
      {found && (
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
      )}
    </>
  )
}
