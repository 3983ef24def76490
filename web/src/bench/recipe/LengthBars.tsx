import { mm } from '../../shared/format'

/** How many struts are how long, those to be welded marked. */
export function LengthBars({
  lengths,
  weld,
}: {
  lengths: { bin_mm: number; counts: number[] }
  weld: number
}) {
  const most = Math.max(...lengths.counts, 1)
  const wide = 100 / lengths.counts.length
  return (
    <figure className="lengths">
      <svg
        viewBox="0 0 100 24"
        preserveAspectRatio="none"
        role="img"
        aria-label="Struts by their length before welding"
      >
        {lengths.counts.map((n, i) => (
          <rect
            key={i}
            className={(i + 0.5) * lengths.bin_mm < weld ? 'short' : ''}
            x={i * wide}
            width={0.8 * wide}
            y={24 - (24 * n) / most}
            height={(24 * n) / most}
          />
        ))}
      </svg>
      <figcaption className="figure muted">
        <span>0</span>
        <span>strut length before welding</span>
        <span>{mm(lengths.bin_mm * lengths.counts.length)}</span>
      </figcaption>
    </figure>
  )
}
