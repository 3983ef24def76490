import { Button } from 'antd'
import type { Recipe } from '../../api/client'
import { count, mm } from '../../shared/format'
import { edit, useBench } from '../state'
import { useFilling } from './filling'
import { Group } from './Group'
import { SwitchLine } from './Lines'
import { finerOf, seedsOf, withFiner, withSeeds, type Finer } from './patternRules'
import { acrossPart, leastShare, withStructure } from './structureRules'
import { Value } from './Value'
import { marked, withMarked, ZoneChoice } from './ZoneChoice'

const surface = -1

/** Cells as large as as many points would make them if all were alike; the number of points follows. */
const withSize = (cell: number) => (r: Recipe) =>
  withSeeds({ count: null })(withStructure({ cell_mm: [cell, cell, cell] })(r))

/** Which zones have smaller cells around them, and whether the surface has. */
const near = (finer: Finer, chosen: number[]) => (r: Recipe) =>
  withMarked('finer', chosen)(withFiner({ ...finer, surface: chosen.includes(surface) })(r))

/** Cells that are smaller near some places. */
export function FinerFields() {
  const f = useFilling()
  const size_mm = useBench((s) => s.project?.part.size_mm) ?? []
  if (!f) return null
  const { recipe, filling, found } = f
  const { cell_mm, pattern } = filling.structure
  const [seeds, finer] = [seedsOf(pattern), finerOf(pattern)]
  const { list } = recipe.zones
  const cell = Math.min(...cell_mm)
  const least = leastShare(filling.structure, recipe)
  const zones = marked(list, 'finer')
  const first: Finer = {
    share: 0.5,
    reach_mm: Number((2.5 * cell).toPrecision(2)),
    surface: zones.length === 0,
  }
  const places = zones.length + (finer?.surface ? 1 : 0)
  const words = finer
    ? `${(100 * finer.share).toFixed(0)} % near ${places === 1 ? 'one place' : `${places} places`}`
    : 'nowhere'
  return (
    <Group name="Smaller cells" sentence={words}>
      <SwitchLine
        label="Smaller cells in places"
        checked={!!finer}
        onChange={(on) => edit(withFiner(on ? first : null))}
      />
      {finer && (
        <>
          <ZoneChoice
            label="Near"
            zones={list}
            more={[{ value: surface, label: "The part's surface" }]}
            chosen={[...(finer.surface ? [surface] : []), ...zones]}
            onChange={(chosen) => edit(near(finer, chosen))}
          />
          <Value
            label="Size there"
            hint="of the cell size"
            value={100 * finer.share}
            unit="%"
            digits={0}
            range={[15, 100]}
            change={(v) => withFiner({ ...finer, share: v / 100 })}
          />
          <Value
            label="Grows over"
            value={finer.reach_mm}
            unit="mm"
            digits={1}
            range={[Number((cell / 2).toPrecision(2)), acrossPart(cell, size_mm)]}
            change={(v) => withFiner({ ...finer, reach_mm: v })}
          />
          {found && least < 1 && (
            <dl className="facts">
              <div>
                <dt>Cells, near to far</dt>
                <dd>
                  {mm(found.cell_mm)} to {mm(found.cell_mm / least)}
                </dd>
              </div>
            </dl>
          )}
          {seeds && least < 1 && !seeds.own && seeds.layout !== 'surface' && (
            <div className="line">
              <span className="label">
                {seeds.count ? 'The number of points is kept' : 'The cell size is kept'}
                <small>
                  {seeds.count
                    ? 'others grow larger'
                    : `it takes ${count(found?.structure?.seeds ?? 0)} points`}
                </small>
              </span>
              {seeds.count ? (
                <Button
                  size="small"
                  onClick={() =>
                    edit(withSize(Number((found?.structure?.alike_mm ?? cell).toFixed(2))))
                  }
                >
                  Keep the size
                </Button>
              ) : (
                <Button
                  size="small"
                  onClick={() => edit(withSeeds({ count: found?.structure?.seeds ?? null }))}
                >
                  Keep the number
                </Button>
              )}
            </div>
          )}
        </>
      )}
    </Group>
  )
}
