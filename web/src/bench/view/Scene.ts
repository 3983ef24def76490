import {
  BufferAttribute,
  BufferGeometry,
  CanvasTexture,
  ConeGeometry,
  DoubleSide,
  EdgesGeometry,
  Euler,
  Group,
  LineBasicMaterial,
  LineSegments,
  Mesh,
  MeshBasicMaterial,
  Object3D,
  PerspectiveCamera,
  PlaneGeometry,
  Raycaster,
  Scene as ThreeScene,
  Sphere,
  Vector2,
  Vector3,
  WebGLRenderer,
  type InterleavedBufferAttribute,
} from 'three'
import { OrbitControls } from 'three/examples/jsm/controls/OrbitControls.js'
import { TransformControls } from 'three/examples/jsm/controls/TransformControls.js'
import { GLTFLoader } from 'three/examples/jsm/loaders/GLTFLoader.js'
import type { Cut, ColourBy, Handle, Picture } from '../state'
import type { Place, Zone } from '../../api/client'
import { FacePicker, type Met } from './FacePicker'
import { mostPosts, partMaterial } from './shaders'
import { skeletonLines } from './skeleton'
import { veil, zoneGhost } from './zoneGhost'

export interface Placement {
  shift: [number, number, number]
  turn: [number, number, number]
}

export interface Readout {
  x: number
  y: number
  role: 'fill' | 'skin' | 'solid'
  thickness: number | null
}

export interface SceneEvents {
  /** The cut plane was dragged in the picture. */
  cut: (at: number) => void
  /** The lattice was moved by its handle; `done` when let go. */
  place: (p: Placement, done: boolean) => void
  painted: (n: number) => void
  /** A face of the part under the pointer, and one that was clicked. */
  face: (n: number | null) => void
  pick: (met: Met) => void
  readout: (r: Readout | null) => void
}

const EMBER = '#CF5F28'
const degrees = (r: number) => (r * 180) / Math.PI
const radians = (d: number) => (d * Math.PI) / 180
const roles = ['fill', 'skin', 'solid'] as const

/** The picture: owns the canvas, draws only when something changed. */
export class Scene {
  private renderer: WebGLRenderer
  private scene = new ThreeScene()
  private camera = new PerspectiveCamera(32, 1, 0.1, 1e6)
  private orbit: OrbitControls
  private gizmo: TransformControls
  private gizmoAt = new Object3D()
  private material = partMaterial()
  private mesh: Mesh | null = null
  private floor: Mesh
  private plane = new Group()
  private knob: Mesh
  private box = { min: new Vector3(), size: new Vector3(1, 1, 1), centre: new Vector3() }
  private loader = new GLTFLoader()
  private waiting = false
  private shown = 0
  private cut: Cut = { axis: 1, at: 0, flipped: false }
  private cutting = false
  private watcher: ResizeObserver
  private flight = 0
  private disposed = false
  private picker = new FacePicker()
  private picking = false
  private ghost: Object3D | null = null
  /** Bodies that are no material. */
  private beside: Mesh | null = null
  private struts: LineSegments | null = null

  constructor(
    private canvas: HTMLCanvasElement,
    private events: SceneEvents,
  ) {
    this.renderer = new WebGLRenderer({ canvas, antialias: true, alpha: true, preserveDrawingBuffer: true })
    this.renderer.setPixelRatio(Math.min(window.devicePixelRatio, 2))
    this.camera.up.set(0, 0, 1)
    this.orbit = new OrbitControls(this.camera, canvas)
    this.orbit.enableDamping = false
    this.orbit.addEventListener('change', this.draw)

    this.gizmo = new TransformControls(this.camera, canvas)
    this.gizmo.setSize(0.85)
    this.gizmo.setColors('#B4532A', '#2F7F86', '#8A7A2E', '#22302B')
    this.gizmoAt.rotation.order = 'ZYX'
    this.scene.add(this.gizmoAt, this.gizmo.getHelper())
    this.gizmo.addEventListener('change', this.draw)
    this.gizmo.addEventListener('dragging-changed', (e) => {
      this.orbit.enabled = !e.value
      if (!e.value) this.events.place(this.placement(), true)
    })
    this.gizmo.addEventListener('objectChange', () => this.events.place(this.placement(), false))
    this.gizmo.enabled = false

    this.floor = new Mesh(new PlaneGeometry(1, 1), new MeshBasicMaterial({ map: shadow(), transparent: true, depthWrite: false }))
    this.floor.renderOrder = -1
    this.scene.add(this.floor)

    const sheet = new Mesh(new PlaneGeometry(1, 1), new MeshBasicMaterial({ color: EMBER, transparent: true, opacity: 0.05, side: DoubleSide, depthWrite: false }))
    const edge = new LineSegments(new EdgesGeometry(new PlaneGeometry(1, 1)), new LineBasicMaterial({ color: EMBER, transparent: true, opacity: 0.55 }))
    this.plane.add(sheet, edge)
    this.knob = new Mesh(doubleCone(), new MeshBasicMaterial({ color: EMBER, depthTest: false, transparent: true }))
    this.knob.renderOrder = 5
    this.scene.add(this.plane, this.knob)
    this.plane.visible = this.knob.visible = false
    this.dragKnob()
    this.watchPointer()
    this.watchFaces()

    this.watcher = new ResizeObserver(() => this.resize())
    this.watcher.observe(canvas.parentElement ?? canvas)
    this.resize()
  }

  dispose() {
    this.disposed = true
    this.watcher.disconnect()
    this.gizmo.dispose()
    this.orbit.dispose()
    this.mesh?.geometry.dispose()
    this.material.dispose()
    this.picker.dispose()
    this.renderer.dispose()
  }

  /** The part's box, for framing. */
  setBox(min: number[], size: number[]) {
    this.box.min.fromArray(min)
    this.box.size.fromArray(size)
    this.box.centre.copy(this.box.size).multiplyScalar(0.5).add(this.box.min)
    const wide = Math.max(this.box.size.x, this.box.size.y) * 2
    this.floor.scale.set(this.box.size.x + wide * 0.35, this.box.size.y + wide * 0.35, 1)
    this.floor.position.set(this.box.centre.x, this.box.centre.y, this.box.min.z - this.box.size.z * 0.004)
    this.view(new Vector3(0.62, -1, 0.5))
  }

  async setPicture(picture: Picture) {
    const { glb, n } = picture
    const loaded = await this.loader.parseAsync(glb, '')
    if (this.disposed || n <= this.shown) return
    const meshes: Mesh[] = []
    loaded.scene.traverse((o) => {
      if (o instanceof Mesh) meshes.push(o)
    })
    if (this.mesh) {
      this.scene.remove(this.mesh)
      this.mesh.geometry.dispose()
    }
    this.mesh = meshes[0] ?? null
    this.shown = n
    if (this.mesh) {
      const { geometry } = this.mesh
      if (!geometry.getAttribute('_thickness')) {
        const points = geometry.getAttribute('position').count
        geometry.setAttribute('_thickness', new BufferAttribute(new Float32Array(points), 1))
      }
      this.mesh.material = this.material
      this.mesh.updateMatrixWorld()
      this.scene.add(this.mesh)
    }
    this.show()
  }

  setColour(by: ColourBy, range: [number, number]) {
    this.uniform('colourBy').value = by === 'thickness' ? 1 : 0
    this.uniform('range').value = range
    this.draw()
  }

  /** Zones that are kept solid, for the colour of cut faces; `others`: something else may be solid too. */
  setPosts(zones: Zone[], others: boolean, hasSkin: boolean, step: number) {
    const round = (p: Place) => p.shape === 'cylinder' || p.shape === 'sphere'
    const shown = zones.filter((z) => z.role === 'keep_solid' && round(z.place)).slice(0, mostPosts)
    shown.forEach(({ place }, i) => {
      if (place.shape === 'cylinder') {
        const axis = new Vector3().fromArray(place.axis_mm)
        const length = axis.length()
        axis.normalize()
        this.uniform('postBase').value[i].fromArray([...place.base_mm, place.radius_mm])
        this.uniform('postAxis').value[i].set(axis.x, axis.y, axis.z, length)
      } else if (place.shape === 'sphere') {
        this.uniform('postBase').value[i].fromArray([...place.centre_mm, place.radius_mm])
        this.uniform('postAxis').value[i].set(0, 0, 0, -1)
      }
    })
    this.uniform('posts').value = shown.length
    // Where another zone may lie on top, the mesh's own roles tell.
    this.uniform('onlyPosts').value = !others && zones.every((z) => z.role === 'keep_clear' || z.role === 'reference' || (z.role === 'keep_solid' && round(z.place))) && zones.length <= mostPosts
    this.uniform('hasSkin').value = hasSkin
    this.uniform('slack').value = 0.3 * step
    this.draw()
  }

  /** Veils bodies that are no material, by the corners of their triangles. */
  setBeside(corners: Float32Array | null) {
    if (this.beside) {
      this.scene.remove(this.beside)
      this.beside.geometry.dispose()
    }
    this.beside = corners && corners.length > 0 ? veil(corners) : null
    if (this.beside) this.scene.add(this.beside)
    this.draw()
  }

  /** Outlines the zone that is worked on. */
  setGhost(zone: Zone | null) {
    if (this.ghost) this.scene.remove(this.ghost)
    this.ghost = zone && zoneGhost(zone)
    if (this.ghost) this.scene.add(this.ghost)
    this.draw()
  }

  /** Shows struts as lines, coloured by length, instead of the result. */
  setSkeleton(ends: Float32Array | null) {
    if (this.struts) {
      this.scene.remove(this.struts)
      this.struts.geometry.dispose()
    }
    this.struts = ends && skeletonLines(ends)
    if (this.struts) this.scene.add(this.struts)
    this.show()
  }

  /** What is seen: the result, the part by its faces, or the struts. */
  private show() {
    const faces = this.picking && this.picker.mesh !== null
    if (this.picker.mesh) this.picker.mesh.visible = faces
    if (this.struts) this.struts.visible = !faces
    if (this.mesh) this.mesh.visible = !faces && !this.struts
    this.draw()
  }

  async setFaces(glb: ArrayBuffer | null) {
    if (this.picker.mesh) this.scene.remove(this.picker.mesh)
    if (glb) await this.picker.load(this.loader, glb)
    if (this.picker.mesh && !this.disposed) this.scene.add(this.picker.mesh)
    this.setPicking(this.picking)
  }

  /** Shows the part by its faces instead of the result. */
  setPicking(picking: boolean) {
    this.picking = picking
    this.show()
  }

  chooseFaces(faces: number[]) {
    this.picker.choose(faces)
    this.draw()
  }

  setCut(cutting: boolean, cut: Cut) {
    this.cut = cut
    this.cutting = cutting
    const normal = new Vector3().setComponent(cut.axis, cut.flipped ? -1 : 1)
    this.uniform('cutting').value = cutting
    this.uniform('cut').value.set(normal.x, normal.y, normal.z, cut.flipped ? -cut.at : cut.at)
    this.plane.visible = this.knob.visible = cutting
    const [u, v] = cut.axis === 0 ? [1, 2] : cut.axis === 1 ? [0, 2] : [0, 1]
    const at = this.box.centre.clone().setComponent(cut.axis, cut.at)
    this.plane.position.copy(at)
    this.plane.rotation.set(cut.axis === 1 ? Math.PI / 2 : 0, 0, 0)
    if (cut.axis === 0) this.plane.rotation.set(Math.PI / 2, Math.PI / 2, 0)
    this.plane.scale.set(this.box.size.getComponent(u) * 1.12, this.box.size.getComponent(v) * 1.12, 1)
    this.knob.position.copy(at).setComponent(v, this.box.min.getComponent(v) + this.box.size.getComponent(v) * 1.06)
    this.knob.quaternion.setFromUnitVectors(new Vector3(0, 1, 0), new Vector3().setComponent(cut.axis, 1))
    const r = this.box.size.length() * 0.018
    this.knob.scale.setScalar(r)
    this.draw()
  }

  /** Shows the handle that moves or turns the lattice. */
  setHandle(handle: Handle, p: Placement) {
    if (!this.gizmo.dragging) {
      this.gizmoAt.position.copy(this.box.centre).add(new Vector3(...p.shift))
      this.gizmoAt.setRotationFromEuler(new Euler(radians(p.turn[0]), radians(p.turn[1]), radians(p.turn[2]), 'ZYX'))
    }
    this.gizmo.enabled = handle !== null
    if (handle) {
      this.gizmo.setMode(handle === 'shift' ? 'translate' : 'rotate')
      this.gizmo.setSpace(handle === 'shift' ? 'world' : 'local')
      this.gizmo.attach(this.gizmoAt)
    } else {
      this.gizmo.detach()
    }
    this.draw()
  }

  private placement(): Placement {
    const shift = this.gizmoAt.position.clone().sub(this.box.centre)
    const e = new Euler().setFromQuaternion(this.gizmoAt.quaternion, 'ZYX')
    const tidy = (v: number) => Number(v.toFixed(1)) || 0
    return {
      shift: [tidy(shift.x), tidy(shift.y), tidy(shift.z)],
      turn: [tidy(degrees(e.x)), tidy(degrees(e.y)), tidy(degrees(e.z))],
    }
  }

  /** Looks along `from` (towards the part) so that the whole part is seen. */
  view(from: Vector3) {
    const high = Math.tan(radians(this.camera.fov / 2)) / 1.1
    const wide = high * this.camera.aspect
    const dir = from.clone().normalize()
    const right = new Vector3().crossVectors(new Vector3(0, 0, 1), dir)
    if (right.lengthSq() < 1e-6) right.set(1, 0, 0)
    right.normalize()
    const up = new Vector3().crossVectors(dir, right)
    // The nearest place from which every corner of the box is in view.
    let distance = 0
    for (let i = 0; i < 8; i++) {
      const corner = new Vector3(i & 1 ? 0.5 : -0.5, i & 2 ? 0.5 : -0.5, i & 4 ? 0.5 : -0.5).multiply(this.box.size)
      distance = Math.max(distance, corner.dot(dir) + Math.max(Math.abs(corner.dot(up)) / high, Math.abs(corner.dot(right)) / wide))
    }
    this.orbit.target.copy(this.box.centre)
    this.camera.position.copy(this.box.centre).addScaledVector(dir, distance)
    const long = this.box.size.length()
    this.camera.near = long / 500
    this.camera.far = distance + long * 8
    this.camera.updateProjectionMatrix()
    this.orbit.update()
    this.draw()
  }

  fit() {
    this.view(this.camera.position.clone().sub(this.orbit.target))
  }

  /** Flies to a place of the part. */
  lookAt(place: [number, number, number]) {
    const to = new Vector3(...place)
    const start = { target: this.orbit.target.clone(), position: this.camera.position.clone() }
    const out = start.position.clone().sub(start.target).normalize()
    const end = to.clone().addScaledVector(out, this.box.size.length() * 0.45)
    const flight = ++this.flight
    const began = performance.now()
    const frame = () => {
      if (flight !== this.flight || this.disposed) return
      const t = Math.min((performance.now() - began) / 450, 1)
      const s = t * t * (3 - 2 * t)
      this.orbit.target.lerpVectors(start.target, to, s)
      this.camera.position.lerpVectors(start.position, end, s)
      this.orbit.update()
      if (t < 1) requestAnimationFrame(frame)
    }
    frame()
  }

  /** A small PNG of the picture alone. */
  card(): Promise<Blob | null> {
    const hidden = [this.plane, this.knob, this.gizmo.getHelper()]
    const was = hidden.map((o) => o.visible)
    hidden.forEach((o) => (o.visible = false))
    this.render()
    hidden.forEach((o, i) => (o.visible = was[i] ?? false))
    const small = document.createElement('canvas')
    const [w, h] = [560, 360]
    small.width = w
    small.height = h
    const scale = Math.max(w / this.canvas.width, h / this.canvas.height)
    const [dw, dh] = [this.canvas.width * scale, this.canvas.height * scale]
    small.getContext('2d')?.drawImage(this.canvas, (w - dw) / 2, (h - dh) / 2, dw, dh)
    this.draw()
    return new Promise((done) => small.toBlob(done, 'image/png'))
  }

  private uniform(name: string) {
    return this.material.uniforms[name] ?? { value: null }
  }

  private resize() {
    const around = this.canvas.parentElement
    if (!around) return
    const { clientWidth: w, clientHeight: h } = around
    if (w === 0 || h === 0) return
    this.renderer.setSize(w, h, false)
    this.camera.aspect = w / h
    this.camera.updateProjectionMatrix()
    this.draw()
  }

  private draw = () => {
    if (this.waiting) return
    this.waiting = true
    requestAnimationFrame(() => {
      this.waiting = false
      if (!this.disposed) this.render()
    })
  }

  private render() {
    const eye = this.camera.position
    const forward = this.orbit.target.clone().sub(eye).normalize()
    const right = forward.clone().cross(this.camera.up).normalize()
    const up = right.clone().cross(forward)
    this.uniform('eye').value.copy(eye)
    this.uniform('key').value.copy(right.multiplyScalar(-0.55).add(up.multiplyScalar(0.75)).addScaledVector(forward, -0.6).normalize())
    this.picker.light(this.uniform('key').value)
    this.floor.visible = eye.z > this.floor.position.z
    this.renderer.render(this.scene, this.camera)
    if (this.shown > 0) this.events.painted(this.shown)
  }

  private pointer(e: PointerEvent): Vector2 {
    const r = this.canvas.getBoundingClientRect()
    return new Vector2(((e.clientX - r.left) / r.width) * 2 - 1, 1 - ((e.clientY - r.top) / r.height) * 2)
  }

  /** Drags the cut plane along its axis by the knob. */
  private dragKnob() {
    const caster = new Raycaster()
    let from: { at: number; value: number } | null = null
    /** Where along the axis through the knob the pointer's ray passes nearest. */
    const along = (e: PointerEvent) => {
      caster.setFromCamera(this.pointer(e), this.camera)
      const { origin, direction } = caster.ray
      const axis = new Vector3().setComponent(this.cut.axis, 1)
      const w = this.knob.position.clone().sub(origin)
      const b = axis.dot(direction)
      return this.knob.position.getComponent(this.cut.axis) + (b * w.dot(direction) - w.dot(axis)) / (1 - b * b || 1e-9)
    }
    const overKnob = (e: PointerEvent) => {
      if (!this.cutting) return false
      caster.setFromCamera(this.pointer(e), this.camera)
      const reach = new Sphere(this.knob.position, this.knob.scale.x * 2.4)
      return caster.ray.intersectsSphere(reach)
    }
    this.canvas.addEventListener(
      'pointerdown',
      (e) => {
        if (e.button !== 0 || !overKnob(e)) return
        from = { at: this.cut.at, value: along(e) }
        this.orbit.enabled = false
        this.canvas.setPointerCapture(e.pointerId)
        e.stopImmediatePropagation()
      },
      { capture: true },
    )
    this.canvas.addEventListener('pointermove', (e) => {
      if (from) {
        const low = this.box.min.getComponent(this.cut.axis)
        const high = low + this.box.size.getComponent(this.cut.axis)
        const at = from.at + along(e) - from.value
        this.events.cut(Math.min(Math.max(at, low), high))
      } else {
        this.canvas.style.cursor = overKnob(e) ? 'grab' : ''
      }
    })
    const end = () => {
      if (from) this.orbit.enabled = true
      from = null
    }
    this.canvas.addEventListener('pointerup', end)
    this.canvas.addEventListener('pointercancel', end)
  }

  /** Reads the values under a pointer that rests. */
  private watchPointer() {
    let timer = 0
    const clear = () => {
      window.clearTimeout(timer)
      this.events.readout(null)
    }
    this.canvas.addEventListener('pointerleave', clear)
    this.canvas.addEventListener('pointerdown', clear)
    this.canvas.addEventListener('pointermove', (e) => {
      clear()
      if (e.buttons === 0) timer = window.setTimeout(() => this.read(e), 350)
    })
  }

  /** Faces of the part under the pointer, while they are picked. */
  private watchFaces() {
    const caster = new Raycaster()
    const under = (e: PointerEvent) => {
      caster.setFromCamera(this.pointer(e), this.camera)
      return this.picker.at(caster)
    }
    const hover = (face: number | null) => {
      if (this.picker.hover(face)) {
        this.events.face(face)
        this.draw()
      }
    }
    let down: [number, number] | null = null
    this.canvas.addEventListener('pointermove', (e) => this.picking && e.buttons === 0 && hover(under(e)?.face ?? null))
    this.canvas.addEventListener('pointerleave', () => hover(null))
    this.canvas.addEventListener('pointerdown', (e) => (down = e.button === 0 ? [e.clientX, e.clientY] : null))
    this.canvas.addEventListener('pointerup', (e) => {
      // A drag turns the view.
      if (!this.picking || !down || Math.hypot(e.clientX - down[0], e.clientY - down[1]) > 4) return
      const met = under(e)
      if (met) this.events.pick(met)
    })
  }

  private read(e: PointerEvent) {
    if (!this.mesh || this.gizmo.axis || this.picking) return
    const caster = new Raycaster()
    caster.setFromCamera(this.pointer(e), this.camera)
    const plane = this.uniform('cut').value
    const kept = (p: Vector3) => !this.cutting || p.x * plane.x + p.y * plane.y + p.z * plane.z <= plane.w
    const hit = caster.intersectObject(this.mesh, false).find((h) => kept(h.point))
    if (!hit?.face) return this.events.readout(null)
    const { geometry } = this.mesh
    const at = hit.face.a
    const read = (name: string) => (geometry.getAttribute(name) as BufferAttribute | InterleavedBufferAttribute).getX(at)
    const rect = this.canvas.getBoundingClientRect()
    const thickness = read('_thickness')
    this.events.readout({
      x: e.clientX - rect.left,
      y: e.clientY - rect.top,
      role: roles[read('_role')] ?? 'fill',
      thickness: thickness > 0 ? thickness : null,
    })
  }
}

/** Soft shadow under the part. */
function shadow(): CanvasTexture {
  const canvas = document.createElement('canvas')
  canvas.width = canvas.height = 128
  const g = canvas.getContext('2d')
  if (g) {
    const fade = g.createRadialGradient(64, 64, 8, 64, 64, 64)
    fade.addColorStop(0, 'rgba(12, 20, 18, 0.30)')
    fade.addColorStop(0.55, 'rgba(12, 20, 18, 0.14)')
    fade.addColorStop(1, 'rgba(12, 20, 18, 0)')
    g.fillStyle = fade
    g.fillRect(0, 0, 128, 128)
  }
  return new CanvasTexture(canvas)
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
  out.setIndex([...(up.index?.array ?? []), ...Array.from(down.index?.array ?? [], (i) => i + shift)])
  return out
}

export const sides: Record<string, Vector3> = {
  front: new Vector3(0, -1, 0.0001),
  right: new Vector3(1, 0, 0.0001),
  top: new Vector3(0, -0.0001, 1),
  angle: new Vector3(0.62, -1, 0.5),
}

