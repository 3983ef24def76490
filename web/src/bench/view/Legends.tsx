import { count } from '../../shared/format'
import { materials, scale } from '../../theme/tokens'
import type { ColourBy } from '../state'
import {
  cellColours,
  cellCounts,
  lengthRange,
  stateCounts,
  strutCount,
  strutStates,
  type StrutColour,
} from './skeleton'

export const roleNames = { fill: 'Fill', skin: 'Skin', solid: 'Kept solid' }

/** What the result's colours say. */
export function Legend(p: {
  colourBy: ColourBy
  low: number
  high: number
  waiting: boolean
  skin: boolean
  solids: boolean
}) {
  if (p.colourBy === 'zone') {
    const shown = [
      ['fill', true],
      ['skin', p.skin],
      ['solid', p.solids],
    ] as const
    return (
      <Swatches
        of={shown
          .filter(([, there]) => there)
          .map(([role]) => ({ label: roleNames[role], colour: materials[role] }))}
      />
    )
  }
  const middle = (p.low + p.high) / 2
  return (
    <Scale
      title="Wall thickness"
      unit={p.waiting ? 'measuring…' : 'mm'}
      marks={[`≤ ${p.low.toFixed(2)}`, middle.toFixed(2), `≥ ${p.high.toFixed(2)}`]}
    />
  )
}

/** What the colours of a moved surface say. */
export function MovedLegend({ most }: { most: number }) {
  return (
    <Scale
      title="Moved by"
      unit="mm"
      marks={['0', (most / 2).toPrecision(2), most.toPrecision(2)]}
    />
  )
}

/** How many seed points there are, and how many whole cells. */
export function CellsLegend({ cells }: { cells: Float32Array | null }) {
  if (!cells) return null
  const { points, whole } = cellCounts(cells)
  return (
    <Swatches
      of={[
        { label: 'Seed points', colour: cellColours.points, number: points },
        { label: 'Cells whole in the part', colour: cellColours.edges, number: whole },
      ]}
    />
  )
}

/** What the colours of struts say, and how many there are. */
export function StrutsLegend({ struts, by }: { struts: Float32Array | null; by: StrutColour }) {
  if (!struts) return null
  if (by === 'state') {
    const counts = stateCounts(struts)
    return <Swatches of={strutStates.map((state, n) => ({ ...state, number: counts[n] ?? 0 }))} />
  }
  const [low, high] = lengthRange(struts)
  return (
    <Scale
      title="Strut length"
      unit="mm"
      marks={[low.toFixed(1), `${count(strutCount(struts))} struts`, high.toFixed(1)]}
    />
  )
}

/** Colours with their names, and how many there are of each. */
function Swatches({ of }: { of: { label: string; colour: string; number?: number }[] }) {
  return (
    <div className="corner bottom left legend" aria-label="Legend">
      {of.map(({ label, colour, number }) => (
        <span key={label} className="swatch">
          <i style={{ background: colour }} /> {label}{' '}
          {number !== undefined && <span className="figure muted">{count(number)}</span>}
        </span>
      ))}
    </div>
  )
}

/** Colours of ordered values, with figures at both ends and in the middle. */
function Scale({
  title,
  unit,
  marks,
}: {
  title: string
  unit: string
  marks: [string, string, string]
}) {
  return (
    <div className="corner bottom left legend scale" aria-label="Legend">
      <div className="row">
        <strong>{title}</strong>
        <span className="figure muted">{unit}</span>
      </div>
      <div className="bar" style={{ background: `linear-gradient(90deg, ${scale.join(', ')})` }} />
      <div className="row figure">
        {marks.map((m, i) => (
          <span key={i}>{m}</span>
        ))}
      </div>
    </div>
  )
}
