import type { ReactNode } from 'react'
import { count } from '../../shared/format'
import { materials, scale } from '../../theme/tokens'
import { useBench, type ViewMode } from '../state'
import { lineStep } from './FieldPaint'
import { useFieldInView, useFieldWords } from './useField'
import { useMovedMap } from './usePartStep'
import { useWantedThickness } from './useResult'
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
function ResultLegend() {
  const colourBy = useBench((b) => b.colourBy)
  return colourBy === 'zone' ? <RolesLegend /> : <ThicknessLegend />
}

/** Something is kept solid. */
const useSolids = () =>
  useBench(
    ({ recipe }) =>
      recipe?.zones.rest === 'keep_solid' ||
      Object.values(recipe?.part.roles ?? {}).includes('keep_solid') ||
      (recipe?.zones.list ?? []).some((z) => z.role === 'keep_solid'),
  )

function RolesLegend() {
  const skin = useBench((b) => (b.recipe?.zones.skins.length ?? 0) > 0)
  const solid = useSolids()
  const shown = [['fill', true] as const, ['skin', skin] as const, ['solid', solid] as const]
  return (
    <Swatches
      of={shown
        .filter(([, there]) => there)
        .map(([role]) => ({ label: roleNames[role], colour: materials[role] }))}
    />
  )
}

function ThicknessLegend() {
  const wanted = useWantedThickness()
  const measured = useBench((b) => b.picture?.info.has_thickness)
  const solids = useSolids()
  const [low, high] = [0.5 * wanted, 2 * wanted]
  return (
    <Scale
      title="Wall thickness"
      unit={measured ? 'mm' : 'measuring…'}
      marks={[`≤ ${low.toFixed(2)}`, ((low + high) / 2).toFixed(2), `≥ ${high.toFixed(2)}`]}
    >
      {solids && <Swatch label={roleNames.solid} colour={materials.solid} />}
    </Scale>
  )
}

/** What the colours of a moved surface say. */
function MovedLegend({ most }: { most: number }) {
  return (
    <Scale
      title="Moved by"
      unit="mm"
      marks={['0', (most / 2).toPrecision(2), most.toPrecision(2)]}
    />
  )
}

/** What the colours of a grading say, and how far its lines are apart. */
function FieldLegend({ range }: { range: [number, number] }) {
  const words = useFieldWords()
  const [low, high] = range
  const short = (v: number) => String(Number(v.toPrecision(3)))
  if (!words) return null
  return (
    <Scale
      title={words.name}
      unit={words.unit}
      marks={[short(low), short((low + high) / 2), short(high)]}
    >
      <span className="muted small">
        a line every {short(lineStep(range))} {words.unit}
      </span>
    </Scale>
  )
}

/** How many seed points there are, and how many whole cells. */
function CellsLegend({ cells }: { cells: Float32Array | null }) {
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
function StrutsLegend({ struts, by }: { struts: Float32Array | null; by: StrutColour }) {
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
      {of.map((swatch) => (
        <Swatch key={swatch.label} {...swatch} />
      ))}
    </div>
  )
}

function Swatch({ label, colour, number }: { label: string; colour: string; number?: number }) {
  return (
    <span className="swatch">
      <i style={{ background: colour }} /> {label}{' '}
      {number !== undefined && <span className="figure muted">{count(number)}</span>}
    </span>
  )
}

/** Colours of ordered values, with figures at both ends and in the middle. */
function Scale({
  title,
  unit,
  marks,
  children,
}: {
  title: string
  unit: string
  marks: [string, string, string]
  /** What has a colour of its own. */
  children?: ReactNode
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
      {children}
    </div>
  )
}

/** What the colours of the view say. */
export function ViewLegend({ view }: { view: ViewMode }) {
  const map = useMovedMap()
  const struts = useBench((b) => b.skeleton)
  const cells = useBench((b) => b.cells)
  const strutColour = useBench((b) => b.strutColour)
  const field = useFieldInView()
  if (map) return <MovedLegend most={map.greatest} />
  if (field) return <FieldLegend range={field.range} />
  if (view === 'cells') return <CellsLegend cells={cells} />
  if (view === 'skeleton') return <StrutsLegend struts={struts} by={strutColour} />
  return <ResultLegend />
}
