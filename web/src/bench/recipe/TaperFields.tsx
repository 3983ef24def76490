import type { Recipe } from '../../api/client'
import { edit, useBench } from '../state'
import { useFilling } from './filling'
import { ChoiceLine } from './Lines'
import { acrossPart, withJoins } from './structureRules'
import { Value } from './Value'
import { marked, withMarked, ZoneChoice } from './ZoneChoice'

type Taper = NonNullable<Recipe['joins']['taper']>

/** Struts that are thicker toward the part's surface, what is kept solid, or some zones. */
export function TaperFields({ thickness, cell }: { thickness: number; cell: number }) {
  const f = useFilling()
  const size_mm = useBench((s) => s.project?.part.size_mm) ?? []
  const taper = f?.filling.joins.taper ?? null
  const first = {
    more_mm: Number((0.5 * thickness).toFixed(2)),
    reach_mm: Number((1.5 * cell).toPrecision(2)),
  }
  const withTaper = (change: Partial<Taper>) =>
    withJoins({ taper: { toward: 'surface', ...first, ...taper, ...change } })
  return (
    <>
      <ChoiceLine<Taper['toward'] | 'nothing'>
        label="Thicker toward"
        value={taper?.toward ?? 'nothing'}
        options={[
          { value: 'nothing', label: 'Nothing' },
          { value: 'surface', label: 'Surface' },
          { value: 'solids', label: 'Solids' },
          { value: 'zones', label: 'Zones' },
        ]}
        onChange={(toward) =>
          edit(toward === 'nothing' ? withJoins({ taper: undefined }) : withTaper({ toward }))
        }
      />
      {taper && (
        <>
          {taper.toward === 'zones' && f && (
            <ZoneChoice
              label="Zones"
              zones={f.recipe.zones.list}
              chosen={marked(f.recipe.zones.list, 'thicker')}
              onChange={(chosen) => edit(withMarked('thicker', chosen))}
            />
          )}
          <Value
            label="There by"
            value={taper.more_mm}
            unit="mm"
            range={[0, Number((2 * thickness).toFixed(2))]}
            change={(v) => withTaper({ more_mm: v })}
          />
          <Value
            label="Fades over"
            value={taper.reach_mm}
            unit="mm"
            digits={1}
            range={[Number((0.2 * cell).toFixed(1)), acrossPart(cell, size_mm)]}
            change={(v) => withTaper({ reach_mm: v })}
          />
        </>
      )}
    </>
  )
}
