import { drawn } from './useDrawing'

/** How long things are in a drawing. */
export function Ruler({ mm, scale }: { mm: number; scale: number }) {
  return (
    <g className="ruler">
      <line
        x1={drawn.width - 10 - mm * scale}
        x2={drawn.width - 10}
        y1={drawn.height - 8}
        y2={drawn.height - 8}
      />
      <text x={drawn.width - 10} y={drawn.height - 12} textAnchor="end">
        {mm} mm
      </text>
    </g>
  )
}
