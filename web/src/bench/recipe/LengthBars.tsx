import { Bar, BarChart, Cell, XAxis, YAxis } from 'recharts'
import { mm } from '../../shared/format'

/** Width and height of the chart, in pixels. */
const [WIDE, HIGH] = [286, 92]

/** How many struts are how long, those to be welded marked. */
export default function LengthBars({
  lengths,
  weld,
}: {
  lengths: { bin_mm: number; counts: number[] }
  /** Struts shorter than this are welded. mm. */
  weld: number
}) {
  const bins = lengths.counts.map((struts, n) => ({ middle: (n + 0.5) * lengths.bin_mm, struts }))
  return (
    <figure className="lengths" aria-label="Struts by their length before welding">
      <BarChart
        width={WIDE}
        height={HIGH}
        data={bins}
        barCategoryGap="18%"
        margin={{ top: 4, right: 8, bottom: 0, left: 0 }}
        accessibilityLayer={false}
        role="img"
        aria-label={`${bins.length} bars from 0 to ${mm(lengths.bin_mm * bins.length)}`}
      >
        <XAxis
          dataKey="middle"
          type="number"
          domain={[0, lengths.bin_mm * bins.length]}
          tickCount={4}
          unit=" mm"
          tickLine={false}
          stroke="var(--muted)"
          fontSize={11}
          height={18}
        />
        <YAxis width={34} tickCount={3} tickLine={false} stroke="var(--muted)" fontSize={11} />
        <Bar dataKey="struts" isAnimationActive={false}>
          {bins.map(({ middle }) => (
            <Cell key={middle} fill={middle < weld ? 'var(--ember)' : 'var(--solid)'} />
          ))}
        </Bar>
      </BarChart>
      <figcaption className="muted small">Struts by length before welding</figcaption>
    </figure>
  )
}
