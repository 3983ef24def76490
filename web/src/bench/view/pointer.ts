import { Vector2 } from 'three'

/** Where a pointer is on a canvas, from −1 to 1 either way. */
export function pointerOn(canvas: HTMLCanvasElement, e: PointerEvent): Vector2 {
  const r = canvas.getBoundingClientRect()
  return new Vector2(
    ((e.clientX - r.left) / r.width) * 2 - 1,
    1 - ((e.clientY - r.top) / r.height) * 2,
  )
}

/** Pixels across and down the page. */
export type Spot = readonly [number, number]

export const spotOf = (e: PointerEvent): Spot => [e.clientX, e.clientY]

/** Has a pressed pointer moved so far that it drags and does not click? */
export const dragged = (from: Spot, e: PointerEvent) =>
  Math.hypot(e.clientX - from[0], e.clientY - from[1]) > 4
