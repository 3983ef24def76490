import { useRef, useState, type KeyboardEvent, type PointerEvent } from 'react'
import type { Recipe } from '../../api/client'
import { edit, preview } from '../state'

export type Spot = readonly [number, number]

export const drawn = { width: 282, height: 200 }
const margin = 22

/** What a drawing shows: its left lower corner, and pixels to a millimetre. */
interface Frame {
  low: Spot
  scale: number
}

function around(spots: readonly Spot[]): Frame {
  const [xs, ys] = [spots.map((s) => s[0]), spots.map((s) => s[1])]
  const [x0, x1, y0, y1] = [Math.min(...xs), Math.max(...xs), Math.min(...ys), Math.max(...ys)]
  const scale = Math.min(
    (drawn.width - 2 * margin) / Math.max(x1 - x0, 1e-3),
    (drawn.height - 2 * margin) / Math.max(y1 - y0, 1e-3),
  )
  return {
    low: [(x0 + x1) / 2 - drawn.width / 2 / scale, (y0 + y1) / 2 - drawn.height / 2 / scale],
    scale,
  }
}

/** A round length that is about `mm`. */
function roundLength(mm: number) {
  const ten = 10 ** Math.floor(Math.log10(mm))
  return [1, 2, 5, 10].map((n) => n * ten).find((v) => v >= mm * 0.999) ?? mm
}

/** The steps that arrow keys mean. */
export const arrows: Record<string, Spot> = {
  ArrowLeft: [-1, 0],
  ArrowRight: [1, 0],
  ArrowUp: [0, 1],
  ArrowDown: [0, -1],
}

/**
 * A drawing in millimetres around some places, of which things `H` are pulled; `change` gives what a
 * thing pulled to a place makes of the recipe.
 */
export function useDrawing<H>(
  spots: readonly Spot[],
  change: (held: H, at: Spot, near: (v: number) => number) => (r: Recipe) => Recipe,
  onHold: (held: H) => void,
) {
  const svg = useRef<SVGSVGElement>(null)
  const [pull, setPull] = useState<{ held: H; frame: Frame; from: Spot; moved: boolean } | null>(
    null,
  )
  // The drawing stands still while something is pulled.
  const { low, scale } = pull?.frame ?? around(spots)
  const snap = roundLength(2 / scale) / 2
  const near = (v: number) => Number((Math.round(v / snap) * snap).toFixed(4))
  const pulled = (held: H, e: PointerEvent) => {
    const box = svg.current?.getBoundingClientRect()
    return box
      ? change(
          held,
          [
            (e.clientX - box.left) / scale + low[0],
            (drawn.height - (e.clientY - box.top)) / scale + low[1],
          ],
          near,
        )
      : null
  }
  return {
    svg,
    scale,
    /** Keys move the chosen point by a step of the raster, or remove it where that may be. */
    keys:
      (
        chosen: Spot | undefined,
        move: (to: Spot) => (r: Recipe) => Recipe,
        remove: (() => void) | null,
      ) =>
      (e: KeyboardEvent) => {
        const by = arrows[e.key]
        if (e.key === 'Delete' && remove) remove()
        else if (by && chosen)
          edit(move([near(chosen[0] + by[0] * snap), near(chosen[1] + by[1] * snap)]))
        else return
        e.preventDefault()
      },
    /** Length of a ruler, mm. */
    ruler: roundLength(60 / scale),
    /** On screen, where up is less. */
    place: ([x, y]: Spot): Spot => [(x - low[0]) * scale, drawn.height - (y - low[1]) * scale],
    grip: (held: H) => ({
      onPointerDown: (e: PointerEvent) => {
        // What is being typed belongs to the point before.
        if (document.activeElement instanceof HTMLInputElement) document.activeElement.blur()
        e.currentTarget.setPointerCapture(e.pointerId)
        onHold(held)
        setPull({ held, frame: { low, scale }, from: [e.clientX, e.clientY], moved: false })
      },
      onPointerMove: (e: PointerEvent) => {
        if (!pull) return
        // A click chooses and moves nothing.
        const moved =
          pull.moved || Math.hypot(e.clientX - pull.from[0], e.clientY - pull.from[1]) > 3
        if (moved && !pull.moved) setPull({ ...pull, moved })
        const next = moved && pulled(pull.held, e)
        if (next) preview(next)
      },
      onPointerUp: (e: PointerEvent) => {
        const next = pull?.moved && pulled(pull.held, e)
        setPull(null)
        if (next) edit(next)
      },
    }),
  }
}
