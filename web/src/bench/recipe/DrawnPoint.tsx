import type { SVGProps } from 'react'

/** A point of a drawing, to be chosen and pulled; `n` counts from 0. */
export function DrawnPoint({
  n,
  at: [cx, cy],
  chosen,
  ...grip
}: {
  n: number
  at: readonly [number, number]
  chosen: boolean
} & Pick<SVGProps<SVGCircleElement>, 'onPointerDown' | 'onPointerMove' | 'onPointerUp'>) {
  return (
    <circle
      className={chosen ? 'point chosen' : 'point'}
      role="img"
      aria-label={`Point ${n + 1}`}
      cx={cx}
      cy={cy}
      r={5.5}
      {...grip}
    />
  )
}
