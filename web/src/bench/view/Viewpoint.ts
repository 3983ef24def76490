import { Box3, Line3, PerspectiveCamera, Plane, Ray, Vector3, type Quaternion } from 'three'
import { OrbitControls } from 'three/examples/jsm/controls/OrbitControls.js'
import type { Box } from './CutPlane'

/** Directions from which the part is seen. */
export const sides = {
  front: new Vector3(0, -1, 0.0001),
  right: new Vector3(1, 0, 0.0001),
  top: new Vector3(0, -0.0001, 1),
  angle: new Vector3(0.62, -1, 0.5),
}

/** How long the view flies to a place, in ms. */
const FLIGHT = 450

const still = () => window.matchMedia('(prefers-reduced-motion: reduce)').matches
const half = (angle: number) => Math.tan((angle * Math.PI) / 360)

/** From where the part is seen: the camera, and how it is turned around the part. */
export class Viewpoint {
  readonly camera = new PerspectiveCamera(32, 1, 0.1, 1e6)
  private orbit: OrbitControls
  private flight = 0

  constructor(
    private canvas: HTMLCanvasElement,
    private box: Box,
    private changed: () => void,
  ) {
    this.camera.up.set(0, 0, 1)
    this.orbit = this.newOrbit()
  }

  private newOrbit() {
    const orbit = new OrbitControls(this.camera, this.canvas)
    orbit.enableDamping = false
    orbit.addEventListener('change', () => {
      this.fitDepth()
      this.changed()
    })
    return orbit
  }

  dispose() {
    this.flight++
    this.orbit.dispose()
  }

  /** Whether dragging turns the part. */
  set turning(on: boolean) {
    this.orbit.enabled = on
  }

  get target() {
    return this.orbit.target
  }

  /** Turns around another direction from now on. */
  setUp(up: Vector3) {
    this.camera.up.copy(up)
    this.orbit.dispose()
    this.orbit = this.newOrbit()
  }

  /** Looks along `from`, towards the part in the axes of `frame`, so that the whole part is seen. */
  view(from: Vector3, frame: Quaternion) {
    this.look(from.clone().applyQuaternion(frame))
  }

  /** Sees the whole part from the direction from which it is seen now. */
  fit() {
    this.look(this.camera.position.clone().sub(this.orbit.target))
  }

  private look(from: Vector3) {
    const { camera, box } = this
    const high = half(camera.fov) / 1.1
    const wide = high * camera.aspect
    const dir = from.normalize()
    const right = new Vector3().crossVectors(camera.up, dir)
    if (right.lengthSq() < 1e-6) right.set(1, 0, 0)
    right.normalize()
    const up = new Vector3().crossVectors(dir, right)
    // The nearest place from which every corner of the box is in view.
    const signs = [-0.5, 0.5]
    const corners = signs.flatMap((x) =>
      signs.flatMap((y) => signs.map((z) => new Vector3(x, y, z).multiply(box.size))),
    )
    const away = (c: Vector3) =>
      c.dot(dir) + Math.max(Math.abs(c.dot(up)) / high, Math.abs(c.dot(right)) / wide)
    const distance = Math.max(0, ...corners.map(away))
    this.orbit.target.copy(box.centre)
    camera.position.copy(box.centre).addScaledVector(dir, distance)
    this.fitDepth()
    this.orbit.update()
    this.changed()
  }

  /** Begins depth close in front of the part, so that faces that lie close together are told apart. */
  private fitDepth() {
    const { camera, box } = this
    const long = box.size.length()
    const distance = camera.position.distanceTo(box.centre)
    camera.near = Math.max(distance - long, long / 500)
    camera.far = distance + long * 8
    camera.updateProjectionMatrix()
  }

  /** Flies to a place of the part; is there at once where motion is to be reduced. */
  flyTo(place: readonly [number, number, number]) {
    const to = new Vector3(...place)
    const start = { target: this.orbit.target.clone(), position: this.camera.position.clone() }
    const out = start.position.clone().sub(start.target).normalize()
    const end = to.clone().addScaledVector(out, this.box.size.length() * 0.45)
    const flight = ++this.flight
    const began = performance.now()
    const length = still() ? 0 : FLIGHT
    const frame = () => {
      if (flight !== this.flight) return
      const t = length > 0 ? Math.min((performance.now() - began) / length, 1) : 1
      const s = t * t * (3 - 2 * t)
      this.orbit.target.lerpVectors(start.target, to, s)
      this.camera.position.lerpVectors(start.position, end, s)
      this.orbit.update()
      if (t < 1) requestAnimationFrame(frame)
    }
    frame()
  }

  /**
   * The place of the part's box in the middle of the picture: on the cut face where one is seen
   * there, or halfway through. mm.
   */
  middle(cut: Plane | null): [number, number, number] {
    const { position } = this.camera
    const box = new Box3(this.box.min, this.box.min.clone().add(this.box.size))
    const ahead = this.orbit.target.clone().sub(position).normalize()
    // From outside, so that both ways meet the box from its outer side.
    const far = position.distanceTo(this.box.centre) + 2 * this.box.size.length()
    const met = (way: Vector3) =>
      new Ray(position.clone().addScaledVector(way, -far), way).intersectBox(box, new Vector3())
    const [enters, leaves] = [met(ahead), met(ahead.clone().negate())]
    let place = this.orbit.target.clone()
    if (enters && leaves) {
      const on = cut?.intersectLine(new Line3(enters, leaves), new Vector3())
      place = on ?? enters.clone().lerp(leaves, 0.5)
    }
    const tidy = (v: number) => Number(v.toFixed(1))
    const { x, y, z } = place.clamp(box.min, box.max)
    return [tidy(x), tidy(y), tidy(z)]
  }

  /** Where the key light comes from: over the left shoulder of whoever looks. */
  light(): Vector3 {
    const forward = this.orbit.target.clone().sub(this.camera.position).normalize()
    const right = forward.clone().cross(this.camera.up).normalize()
    const up = right.clone().cross(forward)
    return right
      .multiplyScalar(-0.55)
      .add(up.multiplyScalar(0.75))
      .addScaledVector(forward, -0.6)
      .normalize()
  }

  /** Width of a pixel at a distance of one, of so many from top to bottom. */
  pixel(high: number) {
    return (2 * half(this.camera.fov)) / high
  }

  resize(aspect: number) {
    this.camera.aspect = aspect
    this.camera.updateProjectionMatrix()
  }
}
