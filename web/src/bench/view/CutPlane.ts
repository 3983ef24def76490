import {
  BufferAttribute,
  BufferGeometry,
  ConeGeometry,
  DoubleSide,
  EdgesGeometry,
  Group,
  LineBasicMaterial,
  LineSegments,
  Mesh,
  MeshBasicMaterial,
  PlaneGeometry,
  Raycaster,
  Sphere,
  Vector3,
  type Camera,
} from 'three'
import type { Cut } from '../state'
import { pointerOn } from './pointer'
import { inPicture } from '../../theme/tokens'

export interface Box {
  min: Vector3
  size: Vector3
  centre: Vector3
}

/** The plane of a cut, and the knob that it is pulled by. */
export class CutPlane {
  readonly group = new Group()
  private plane = new Group()
  private knob: Mesh
  private cut: Cut = { axis: 1, at: 0, flipped: false }

  constructor(
    private canvas: HTMLCanvasElement,
    private camera: Camera,
    private box: Box,
    private events: { moved: (at: number) => void; holding: (on: boolean) => void },
  ) {
    const sheet = new Mesh(
      new PlaneGeometry(1, 1),
      new MeshBasicMaterial({
        color: inPicture.cutEdge,
        transparent: true,
        opacity: 0.05,
        side: DoubleSide,
        depthWrite: false,
      }),
    )
    const edge = new LineSegments(
      new EdgesGeometry(new PlaneGeometry(1, 1)),
      new LineBasicMaterial({ color: inPicture.cutEdge, transparent: true, opacity: 0.55 }),
    )
    this.plane.add(sheet, edge)
    this.knob = new Mesh(
      doubleCone(),
      new MeshBasicMaterial({ color: inPicture.cutEdge, depthTest: false, transparent: true }),
    )
    this.knob.renderOrder = 5
    this.group.add(this.plane, this.knob)
    this.group.visible = false
    this.drag()
  }

  set(cutting: boolean, cut: Cut) {
    this.cut = cut
    this.group.visible = cutting
    const { box, plane, knob } = this
    const [u, v] = cut.axis === 0 ? [1, 2] : cut.axis === 1 ? [0, 2] : [0, 1]
    const at = box.centre.clone().setComponent(cut.axis, cut.at)
    plane.position.copy(at)
    plane.rotation.set(cut.axis === 1 ? Math.PI / 2 : 0, 0, 0)
    if (cut.axis === 0) plane.rotation.set(Math.PI / 2, Math.PI / 2, 0)
    plane.scale.set(box.size.getComponent(u) * 1.12, box.size.getComponent(v) * 1.12, 1)
    knob.position
      .copy(at)
      .setComponent(v, box.min.getComponent(v) + box.size.getComponent(v) * 1.06)
    knob.quaternion.setFromUnitVectors(
      new Vector3(0, 1, 0),
      new Vector3().setComponent(cut.axis, 1),
    )
    knob.scale.setScalar(box.size.length() * 0.018)
  }

  /** Pulls the plane along its axis by the knob. */
  private drag() {
    const { canvas, camera, knob } = this
    const caster = new Raycaster()
    let from: { at: number; value: number } | null = null
    /** Where along the axis through the knob the pointer's ray passes nearest. */
    const along = (e: PointerEvent) => {
      caster.setFromCamera(pointerOn(canvas, e), camera)
      const { origin, direction } = caster.ray
      const axis = new Vector3().setComponent(this.cut.axis, 1)
      const w = knob.position.clone().sub(origin)
      const b = axis.dot(direction)
      return (
        knob.position.getComponent(this.cut.axis) +
        (b * w.dot(direction) - w.dot(axis)) / (1 - b * b || 1e-9)
      )
    }
    const overKnob = (e: PointerEvent) => {
      if (!this.group.visible) return false
      caster.setFromCamera(pointerOn(canvas, e), camera)
      return caster.ray.intersectsSphere(new Sphere(knob.position, knob.scale.x * 2.4))
    }
    canvas.addEventListener(
      'pointerdown',
      (e) => {
        if (e.button !== 0 || !overKnob(e)) return
        from = { at: this.cut.at, value: along(e) }
        this.events.holding(true)
        canvas.setPointerCapture(e.pointerId)
        e.stopImmediatePropagation()
      },
      { capture: true },
    )
    canvas.addEventListener('pointermove', (e) => {
      if (from) {
        const low = this.box.min.getComponent(this.cut.axis)
        const high = low + this.box.size.getComponent(this.cut.axis)
        const at = from.at + along(e) - from.value
        this.events.moved(Math.min(Math.max(at, low), high))
      } else {
        canvas.style.cursor = overKnob(e) ? 'grab' : ''
      }
    })
    const end = () => {
      if (from) this.events.holding(false)
      from = null
    }
    canvas.addEventListener('pointerup', end)
    canvas.addEventListener('pointercancel', end)
  }
}

/** Two cones, tips outward, along y: pull either way. */
function doubleCone(): BufferGeometry {
  const up = new ConeGeometry(0.9, 1.5, 20).translate(0, 1.15, 0)
  const down = new ConeGeometry(0.9, 1.5, 20).rotateX(Math.PI).translate(0, -1.15, 0)
  const out = new BufferGeometry()
  for (const name of ['position', 'normal']) {
    const [a, b] = [up.getAttribute(name), down.getAttribute(name)]
    const joined = new Float32Array(a.array.length + b.array.length)
    joined.set(a.array)
    joined.set(b.array, a.array.length)
    out.setAttribute(name, new BufferAttribute(joined, 3))
  }
  const shift = up.getAttribute('position').count
  out.setIndex([
    ...(up.index?.array ?? []),
    ...Array.from(down.index?.array ?? [], (i) => i + shift),
  ])
  return out
}
