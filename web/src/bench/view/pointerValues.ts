import {
  Raycaster,
  type BufferAttribute,
  type Camera,
  type InterleavedBufferAttribute,
  type Mesh,
  type Plane,
} from 'three'
import { pointerOn } from './pointer'

/** What the part is under the pointer, and where that is on the canvas in pixels. */
export interface Readout {
  x: number
  y: number
  role: 'fill' | 'skin' | 'solid'
  /** mm; `null` where it was not measured. */
  thickness: number | null
}

const roles = ['fill', 'skin', 'solid'] as const
/** How long a pointer rests before values are read, in ms. */
const REST = 350

/** Calls `read` when the pointer rests on the canvas, and `left` when it moves on. */
export function whereItRests(
  canvas: HTMLCanvasElement,
  read: (e: PointerEvent) => void,
  left: () => void,
) {
  let timer = 0
  const clear = () => {
    window.clearTimeout(timer)
    left()
  }
  canvas.addEventListener('pointerleave', clear)
  canvas.addEventListener('pointerdown', clear)
  canvas.addEventListener('pointermove', (e) => {
    clear()
    if (e.buttons === 0) timer = window.setTimeout(() => read(e), REST)
  })
}

/** The values of a mesh under the pointer, on what a cut leaves of it. */
export function valuesAt(
  e: PointerEvent,
  canvas: HTMLCanvasElement,
  camera: Camera,
  mesh: Mesh,
  cut: Plane | null,
): Readout | null {
  const caster = new Raycaster()
  caster.setFromCamera(pointerOn(canvas, e), camera)
  const kept = (h: { point: Parameters<Plane['distanceToPoint']>[0] }) =>
    !cut || cut.distanceToPoint(h.point) <= 0
  const face = caster.intersectObject(mesh, false).find(kept)?.face
  if (!face) return null
  const read = (name: string) =>
    (mesh.geometry.getAttribute(name) as BufferAttribute | InterleavedBufferAttribute).getX(face.a)
  const rect = canvas.getBoundingClientRect()
  const thickness = read('_thickness')
  return {
    x: e.clientX - rect.left,
    y: e.clientY - rect.top,
    role: roles[read('_role')] ?? 'fill',
    thickness: thickness > 0 ? thickness : null,
  }
}
