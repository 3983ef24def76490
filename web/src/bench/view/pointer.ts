import { Vector2 } from 'three'

/** Where a pointer is on a canvas, from −1 to 1 either way. */
export function pointerOn(canvas: HTMLCanvasElement, e: PointerEvent): Vector2 {
  const r = canvas.getBoundingClientRect()
  return new Vector2(((e.clientX - r.left) / r.width) * 2 - 1, 1 - ((e.clientY - r.top) / r.height) * 2)
}
