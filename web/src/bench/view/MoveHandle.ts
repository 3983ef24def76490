import { Euler, Object3D, Vector3, type Camera } from 'three'
import { TransformControls } from 'three/examples/jsm/controls/TransformControls.js'
import type { Handle } from '../state'
import { handleColours } from '../../theme/tokens'

/** Where something is, from the middle of the part in mm, and how it is turned in degrees. */
export interface Placement {
  shift: [number, number, number]
  turn: [number, number, number]
}

const degrees = (r: number) => (r * 180) / Math.PI
const radians = (d: number) => (d * Math.PI) / 180
const tidy = (v: number) => Number(v.toFixed(1)) || 0

/** The handle in the picture by which the lattice, a zone or a control point is moved. */
export class MoveHandle {
  private controls: TransformControls
  private at = new Object3D()

  constructor(
    camera: Camera,
    canvas: HTMLCanvasElement,
    private centre: Vector3,
    events: {
      changed: () => void
      /** Whether the handle is held. */
      holding: (on: boolean) => void
      /** It was moved; `done` when it is let go. */
      placed: (p: Placement, done: boolean) => void
    },
  ) {
    this.controls = new TransformControls(camera, canvas)
    this.controls.setSize(0.85)
    this.controls.setColors(...handleColours)
    this.controls.enabled = false
    this.at.rotation.order = 'ZYX'
    this.controls.addEventListener('change', events.changed)
    this.controls.addEventListener('dragging-changed', (e) => {
      events.holding(Boolean(e.value))
      if (!e.value) events.placed(this.placement(), true)
    })
    this.controls.addEventListener('objectChange', () => events.placed(this.placement(), false))
  }

  /** What the scene draws. */
  get objects() {
    return [this.at, this.controls.getHelper()] as const
  }

  /** The pointer is on the handle. */
  get pointed() {
    return this.controls.axis !== null
  }

  dispose() {
    this.controls.dispose()
  }

  set(handle: Handle, { shift, turn }: Placement) {
    if (!this.controls.dragging) {
      this.at.position.copy(this.centre).add(new Vector3(...shift))
      const [x, y, z] = turn
      this.at.setRotationFromEuler(new Euler(radians(x), radians(y), radians(z), 'ZYX'))
    }
    this.controls.enabled = handle !== null
    if (handle) {
      this.controls.setMode(handle === 'shift' ? 'translate' : 'rotate')
      this.controls.setSpace(handle === 'shift' ? 'world' : 'local')
      this.controls.attach(this.at)
    } else {
      this.controls.detach()
    }
  }

  private placement(): Placement {
    const { x, y, z } = this.at.position.clone().sub(this.centre)
    const e = new Euler().setFromQuaternion(this.at.quaternion, 'ZYX')
    return {
      shift: [tidy(x), tidy(y), tidy(z)],
      turn: [tidy(degrees(e.x)), tidy(degrees(e.y)), tidy(degrees(e.z))],
    }
  }
}
