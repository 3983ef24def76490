import {
  Raycaster,
  Vector3,
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
  /** What the grading that is looked at gives there. */
  value?: number
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
  const thickness = read('_thickness')
  return {
    ...spotOn(canvas, e),
    role: roles[read('_role')] ?? 'fill',
    thickness: thickness > 0 ? thickness : null,
  }
}

/** Where a pointer is on the canvas, in pixels. */
export function spotOn(canvas: HTMLCanvasElement, e: PointerEvent) {
  const rect = canvas.getBoundingClientRect()
  return { x: e.clientX - rect.left, y: e.clientY - rect.top }
}

/** The place of a closed mesh under the pointer: on its surface, or on the face that a cut makes. */
export function placeAt(
  e: PointerEvent,
  canvas: HTMLCanvasElement,
  camera: Camera,
  mesh: Mesh,
  cut: Plane | null,
): Vector3 | null {
  const caster = new Raycaster()
  caster.setFromCamera(pointerOn(canvas, e), camera)
  const kept = (p: Vector3) => !cut || cut.distanceToPoint(p) <= 0
  const hit = caster.intersectObject(mesh, false).find((h) => kept(h.point))
  if (!hit?.face) return null
  const looksBack = hit.face.normal.dot(caster.ray.direction) > 0
  // Behind the cut's face a ray meets the mesh from inside.
  const on = cut && looksBack ? caster.ray.intersectPlane(cut, new Vector3()) : null
  return on ?? hit.point
}
