import { lazy, Suspense } from 'react'
import { Button } from 'antd'
import { count, mm } from '../../shared/format'
import { edit } from '../state'
import { useFilling } from './filling'
import { Group } from './Group'
import { ChoiceLine, SwitchLine } from './Lines'
import { NumberLine } from './NumberLine'
import { cleanOf, withClean, type Clean } from './patternRules'
import { Value } from './Value'

// Charts are fetched with the first group that has one.
const LengthBars = lazy(() => import('./LengthBars'))

/** Halvings of struts that are curved: eight straight pieces look round. */
const round = 3

/** What becomes of what a net of struts has too much of, and what was found of it. */
export function CleanFields() {
  const f = useFilling()
  const pattern = f?.filling.structure.pattern
  const clean = pattern && cleanOf(pattern)
  if (!f || !pattern || !clean) return null
  const found = f.found?.structure
  // The net closes what is cut at the surface.
  const closed = pattern.kind === 'voronoi' && !!pattern.net
  const cell = f.found?.cell_mm ?? 1
  const ends = { kept: 'dead ends kept', removed: 'dead ends go', extended: 'dead ends run on' }
  const words =
    `welded below ${(100 * clean.weld).toFixed(0)} %, ${ends[clean.dead_ends]}` +
    (clean.curved ? ', in curves' : '')
  return (
    <>
      <Group name="Clean-up" sentence={words}>
        {found?.lengths && (
          <Suspense fallback={<div className="lengths" />}>
            <LengthBars lengths={found.lengths} weld={clean.weld * cell} />
          </Suspense>
        )}
        <Value
          label="Weld below"
          hint="share of a cell"
          value={100 * clean.weld}
          unit="%"
          digits={0}
          range={[0, 40]}
          change={(v) => withClean({ weld: v / 100 })}
        />
        {found?.lengths && found.lengths.suggested_weld_mm > 0 && (
          <div className="line">
            <span className="label">
              Suggested: {mm(found.lengths.suggested_weld_mm)}
              <small>between short struts and those of cells</small>
            </span>
            <Button
              size="small"
              onClick={() =>
                edit(
                  withClean({
                    weld: Math.min(0.4, found.lengths ? found.lengths.suggested_weld_mm / cell : 0),
                  }),
                )
              }
            >
              Use it
            </Button>
          </div>
        )}
        <ChoiceLine<Clean['dead_ends']>
          label="Dead ends"
          value={clean.dead_ends}
          options={[
            { value: 'kept', label: 'Keep' },
            { value: 'removed', label: 'Remove' },
            { value: 'extended', label: 'To surface' },
          ]}
          onChange={(dead_ends) => edit(withClean({ dead_ends }))}
        />
        <SwitchLine
          label="Keep loose pieces"
          checked={!!clean.keep_loose}
          onChange={(keep_loose) => edit(withClean({ keep_loose }))}
        />
        {!closed && (
          <Value
            label="Cut struts"
            hint="dropped below"
            value={100 * clean.least_left}
            unit="%"
            digits={0}
            range={[0, 50]}
            change={(v) => withClean({ least_left: v / 100 })}
          />
        )}
        <NumberLine
          label="Most struts at a node, 0 for any"
          unit=""
          value={clean.most_at_node}
          onSet={(v) => edit(withClean({ most_at_node: v > 0 ? Math.max(4, Math.round(v)) : 0 }))}
        />
        <ChoiceLine<'straight' | 'curved'>
          label="Struts run"
          value={clean.curved ? 'curved' : 'straight'}
          options={[
            { value: 'straight', label: 'Straight' },
            { value: 'curved', label: 'In curves' },
          ]}
          onChange={(way) => edit(withClean({ curved: way === 'curved' ? round : 0 }))}
        />
      </Group>
      {found && found.struts > 0 && (
        <Group
          name="Struts found"
          sentence={`${count(found.struts)} struts, ${count(found.nodes)} nodes`}
        >
          <dl className="facts">
            {[
              ['Struts, nodes', `${count(found.struts)}, ${count(found.nodes)}`],
              ['Struts at a node, mean', found.degree.toFixed(1)],
              [
                'Strut length',
                `${found.shortest_mm.toFixed(1)} to ${found.longest_mm.toFixed(1)} mm`,
              ],
              ['Pieces', count(found.components)],
              ['Twice there, left out', count(found.duplicates)],
              ['Welded: too short', count(found.welded)],
              [
                clean.keep_loose ? 'In loose pieces, kept' : 'In loose pieces, left out',
                count(found.in_loose),
              ],
              [
                'Dead ends',
                count(found.dead_ends) + (found.dead_ends > 0 ? ` ${clean.dead_ends}` : ''),
              ],
              ...(closed ? [] : [['Cut too short, left out', count(found.cut_short)]]),
              ['Crowded nodes, drawn apart', count(found.drawn_apart)],
              ...(found.strands > 0
                ? [['Strands that run on through nodes', count(found.strands)]]
                : []),
            ].map(([what, figure]) => (
              <div key={what}>
                <dt>{what}</dt>
                <dd>{figure}</dd>
              </div>
            ))}
          </dl>
        </Group>
      )}
    </>
  )
}
