import { CartesianGrid, ReferenceLine, Scatter, ScatterChart, XAxis, YAxis } from 'recharts'
import type { RunInfo } from '../../api/client'

type Window = NonNullable<RunInfo['report']>['density_windows'][number][number]

/** Width and height of the plot, in pixels. */
const [WIDE, HIGH] = [286, 190]

/** Density that is asked in windows of two cells, and what is there; the line is where both are the same. */
export default function DensityPlot({ windows }: { windows: readonly Window[] }) {
  const all = windows.flatMap((w) => [w.asked_percent, w.found_percent])
  const domain = [Math.floor(Math.min(...all) - 1), Math.ceil(Math.max(...all) + 1)]
  const near = windows.filter((w) => Math.abs(w.asked_percent - w.found_percent) <= 2).length
  const axis = {
    type: 'number' as const,
    domain,
    tickCount: 5,
    tickLine: false,
    stroke: 'var(--muted)',
    fontSize: 11,
  }
  return (
    <figure className="densityplot" aria-label="Density asked and found, by place">
      <ScatterChart
        width={WIDE}
        height={HIGH}
        margin={{ top: 6, right: 10, bottom: 0, left: 0 }}
        accessibilityLayer={false}
        role="img"
        aria-label={`${near} of ${windows.length} windows within 2 points`}
      >
        <CartesianGrid stroke="var(--line)" />
        <XAxis dataKey="asked_percent" {...axis} unit=" %" height={18} />
        <YAxis dataKey="found_percent" {...axis} width={34} />
        <ReferenceLine
          segment={[
            { x: domain[0], y: domain[0] },
            { x: domain[1], y: domain[1] },
          ]}
          stroke="var(--ink)"
          strokeDasharray="4 3"
        />
        <Scatter data={[...windows]} fill="var(--ember)" isAnimationActive={false} />
      </ScatterChart>
      <figcaption className="muted small">
        Density found by density asked, in windows of two cells of the final mesh: {near} of{' '}
        {windows.length} within 2 points
      </figcaption>
    </figure>
  )
}
