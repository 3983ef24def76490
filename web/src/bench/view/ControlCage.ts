import {
  BufferGeometry,
  Float32BufferAttribute,
  Group,
  LineBasicMaterial,
  LineSegments,
  Mesh,
  MeshBasicMaterial,
  Raycaster,
  SphereGeometry,
  Vector3,
  type Camera,
} from 'three'
import { dragged, pointerOn, spotOf, type Spot } from './pointer'

const [plain, chosen] = ['#1F5D4C', '#CF5F28']

/** A grid of points that a sheet follows: one is chosen by a click. */
export class ControlCage {
  readonly group = new Group()
  private knobs: Mesh[] = []
  private lines: LineSegments | null = null

  constructor(canvas: HTMLCanvasElement, camera: Camera, onChoose: (n: number) => void) {
    const caster = new Raycaster()
    let down: Spot | null = null
    canvas.addEventListener('pointerdown', (e) => (down = e.button === 0 ? spotOf(e) : null))
    canvas.addEventListener('pointerup', (e) => {
      // A drag turns the view.
      if (this.knobs.length === 0 || !down || dragged(down, e)) return
      caster.setFromCamera(pointerOn(canvas, e), camera)
      const hit = caster.intersectObjects(this.knobs, false)[0]
      const n = this.knobs.findIndex((k) => k === hit?.object)
      if (n >= 0) onChoose(n)
    })
  }

  /** Rows of `across` points; none takes the cage away. `size`: the part's longest side. */
  set(points: readonly (readonly number[])[], across: number, at: number, size: number) {
    for (const o of [...this.knobs, ...(this.lines ? [this.lines] : [])]) {
      this.group.remove(o)
      o.geometry.dispose()
    }
    this.lines = null
    const places = points.map((p) => new Vector3().fromArray([...p]))
    this.knobs = places.map((place, n) => {
      const knob = new Mesh(
        new SphereGeometry(size * (n === at ? 0.014 : 0.01), 16, 12),
        new MeshBasicMaterial({
          color: n === at ? chosen : plain,
          depthTest: false,
          transparent: true,
        }),
      )
      knob.position.copy(place)
      knob.renderOrder = 6
      return knob
    })
    if (places.length === 0) return
    const ends = places.flatMap((p, n) => {
      const [beside, after] = [
        (n + 1) % across === 0 ? undefined : places[n + 1],
        places[n + across],
      ]
      return [beside, after].flatMap((q) => (q ? [...p.toArray(), ...q.toArray()] : []))
    })
    const geometry = new BufferGeometry()
    geometry.setAttribute('position', new Float32BufferAttribute(ends, 3))
    this.lines = new LineSegments(
      geometry,
      new LineBasicMaterial({ color: plain, transparent: true, opacity: 0.5, depthTest: false }),
    )
    this.lines.renderOrder = 5
    this.group.add(...this.knobs, this.lines)
  }
}
