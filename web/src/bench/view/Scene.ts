import {
  BufferAttribute,
  Mesh,
  Plane,
  Scene as ThreeScene,
  Vector3,
  WebGLRenderer,
  type Object3D,
} from 'three'
import { GLTFLoader } from 'three/examples/jsm/loaders/GLTFLoader.js'
import type { Cut, ColourBy, Handle, Picture } from '../state'
import type { EdgeLoop, Place, Zone } from '../../api/client'
import { ControlCage } from './ControlCage'
import { CutPlane, type Box } from './CutPlane'
import { Directions } from './Directions'
import { FacePicker, type Met, type PickTool } from './FacePicker'
import { FieldPaint, valueIn, type GradedField } from './FieldPaint'
import { Ground, type Standing } from './Ground'
import { meshOf } from './meshOf'
import { MoveHandle, type Placement } from './MoveHandle'
import { PlaceMark } from './PlaceMark'
import { placeAt, spotOn, valuesAt, whereItRests, type Readout } from './pointerValues'
import { aloneIn, mostPosts, partMaterial } from './shaders'
import type { CellLines, SkeletonLines } from './skeleton'
import { ValueMarks, type ValueMark } from './ValueMarks'
import { sides, Viewpoint } from './Viewpoint'
import { veil, zoneGhost } from './zoneGhost'

export interface SceneEvents {
  /** The cut plane was dragged in the picture. */
  cut: (at: number) => void
  /** The lattice was moved by its handle; `done` when let go. */
  place: (p: Placement, done: boolean) => void
  painted: (n: number) => void
  /** A face of the part under the pointer, and one that was clicked. */
  face: (n: number | null) => void
  pick: (met: Met) => void
  /** Faces that were brushed over or lie in a box. */
  sweep: (faces: number[]) => void
  /** A loop of edges was clicked: the faces beyond it. */
  loop: (faces: number[]) => void
  /** Gives the loops of edges around a face. */
  loops: (face: number) => Promise<EdgeLoop[]>
  /** A box is being drawn, in pixels of the canvas. */
  band: (b: [number, number, number, number] | null) => void
  /** A control point of a sheet was clicked. */
  control: (n: number) => void
  /** A point of a grading was clicked. */
  value: (n: number) => void
  readout: (r: Readout | null) => void
}

/** The picture: owns the canvas, draws only when something changed. */
export class Scene {
  private renderer: WebGLRenderer
  private scene = new ThreeScene()
  private box: Box = { min: new Vector3(), size: new Vector3(1, 1, 1), centre: new Vector3() }
  private viewpoint: Viewpoint
  private handle: MoveHandle
  private material = partMaterial()
  private mesh: Mesh | null = null
  private ground = new Ground()
  private plane: CutPlane
  private cage: ControlCage
  private directions = new Directions()
  private mark = new PlaceMark()
  private standing: Standing | null = null
  private framed = false
  private loader = new GLTFLoader()
  private waiting = false
  private shown = 0
  private cutting = false
  private watcher: ResizeObserver
  private disposed = false
  private picker = new FacePicker(() => this.draw())
  private picking = false
  private ghosts: Object3D[] = []
  /** Bodies that are no material. */
  private beside: Mesh | null = null
  private lines: SkeletonLines | CellLines | null = null
  /** The part with how far it was moved, instead of the result. */
  private map: Mesh | null = null
  private mapMaterial = partMaterial()
  /** The part painted by what a grading gives, instead of the result. */
  private painted: Mesh | null = null
  private paint = new FieldPaint()
  private marks: ValueMarks
  /** Places are picked on the painted part. */
  private placing = false

  constructor(
    private canvas: HTMLCanvasElement,
    private events: SceneEvents,
  ) {
    this.renderer = new WebGLRenderer({
      canvas,
      antialias: true,
      alpha: true,
      preserveDrawingBuffer: true,
    })
    this.renderer.setPixelRatio(Math.min(window.devicePixelRatio, 2))
    this.viewpoint = new Viewpoint(canvas, this.box, this.draw)
    const { scene, viewpoint } = this
    const { camera } = viewpoint
    const holding = (on: boolean) => {
      viewpoint.turning = !on
      this.draw()
    }
    this.handle = new MoveHandle(camera, canvas, this.box.centre, {
      changed: this.draw,
      holding,
      placed: events.place,
    })
    this.plane = new CutPlane(canvas, camera, this.box, { moved: events.cut, holding })
    this.cage = new ControlCage(canvas, camera, events.control)
    this.marks = new ValueMarks(canvas, camera, {
      active: () => !this.picking,
      choose: events.value,
    })
    scene.add(
      ...this.handle.objects,
      this.ground.group,
      this.plane.group,
      this.cage.group,
      this.directions.group,
      this.picker.loops.group,
      this.mark.sprite,
      this.marks.group,
    )
    this.picker.loops.source = events.loops
    this.picker.watch(canvas, camera, {
      active: () => this.picking,
      hover: (face) => {
        events.face(face)
        this.draw()
      },
      pick: events.pick,
      sweep: events.sweep,
      loop: events.loop,
      band: events.band,
      holding,
    })
    whereItRests(
      canvas,
      (e) => events.readout(this.read(e)),
      () => events.readout(null),
    )

    this.watcher = new ResizeObserver(() => this.resize())
    this.watcher.observe(canvas.parentElement ?? canvas)
    this.resize()
  }

  dispose() {
    this.disposed = true
    this.watcher.disconnect()
    this.handle.dispose()
    this.viewpoint.dispose()
    this.mesh?.geometry.dispose()
    this.material.dispose()
    this.map?.geometry.dispose()
    this.mapMaterial.dispose()
    this.paint.dispose()
    this.marks.dispose()
    this.directions.dispose()
    this.mark.dispose()
    this.picker.dispose()
    this.renderer.dispose()
  }

  /** The part's box. The view frames it at first, and again when the part has become another. */
  setBox(min: number[], size: number[]) {
    const before = this.box.size.length()
    this.box.min.fromArray(min)
    this.box.size.fromArray(size)
    this.box.centre.copy(this.box.size).multiplyScalar(0.5).add(this.box.min)
    this.ground.set(this.box, this.standing)
    const now = this.box.size.length()
    if (!this.framed) this.view(sides.angle)
    else if (now > 1.5 * before || now < before / 1.5) this.fit()
    this.framed = true
    this.draw()
  }

  /** How the part stands; `null`: as it is. Up is where the bed says. */
  setStanding(standing: Standing | null) {
    const before = this.ground.up
    this.standing = standing
    this.ground.set(this.box, standing)
    const { up } = this.ground
    for (const m of [this.material, this.mapMaterial]) m.uniforms.up?.value.copy(up)
    if (up.distanceTo(before) > 1e-6) {
      this.viewpoint.setUp(up)
      this.view(sides.angle)
    }
    this.draw()
  }

  /** Control points of a sheet in rows of `across`, of which one is chosen. */
  setCage(points: readonly (readonly number[])[], across: number, chosen: number) {
    this.cage.set(points, across, chosen, this.box.size.length())
    this.draw()
  }

  /** The directions of a sheet, or none. */
  setDirections(ways: Parameters<Directions['set']>[0]) {
    this.directions.set(ways, this.box.size.length())
    this.draw()
  }

  async setPicture(picture: Picture) {
    const { glb, n } = picture
    if (n <= this.shown) return
    const mesh = await meshOf(this.loader, glb)
    if (this.disposed || n <= this.shown) return
    if (this.mesh) {
      this.scene.remove(this.mesh)
      this.mesh.geometry.dispose()
    }
    this.mesh = mesh
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
    this.uniform('onlyPosts').value =
      !others &&
      zones.every(
        (z) =>
          z.role === 'keep_clear' ||
          z.role === 'reference' ||
          (z.role === 'keep_solid' && round(z.place)),
      ) &&
      zones.length <= mostPosts
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

  /** Veils zones, the one that is worked on with its outline. */
  setGhosts(zones: Zone[], chosen: Zone | null) {
    this.ghosts.forEach((g) => this.scene.remove(g))
    const all = chosen && !zones.includes(chosen) ? [...zones, chosen] : zones
    this.ghosts = all.flatMap((z) => zoneGhost(z, z === chosen) ?? [])
    this.ghosts.forEach((g) => this.scene.add(g))
    this.draw()
  }

  /**
   * Shows only what lies in a place, or `'within'` what {@link setBeyond} says, and a step of the
   * grid around it; `null`: everything.
   */
  setAlone(place: Place | 'within' | null, step: number) {
    aloneIn(this.material, place, step)
    this.draw()
  }

  /** The places of the result's points. mm. */
  places(): Float32Array<ArrayBuffer> {
    const position = this.mesh?.geometry.getAttribute('position')
    const out = new Float32Array(3 * (position?.count ?? 0))
    const p = new Vector3()
    for (let i = 0; position && this.mesh && i < position.count; i++)
      p.fromBufferAttribute(position, i)
        .applyMatrix4(this.mesh.matrixWorld)
        .toArray(out, 3 * i)
    return out
  }

  /** How far each of those points is from what is shown alone. mm. */
  setBeyond(far: Float32Array) {
    if (this.mesh?.geometry.getAttribute('position').count === far.length)
      this.mesh.geometry.setAttribute('beyond', new BufferAttribute(far, 1))
    this.draw()
  }

  /** Shows struts or cells instead of the result. */
  setLines(lines: SkeletonLines | CellLines | null) {
    if (this.lines) {
      this.scene.remove(this.lines)
      this.lines.dispose()
    }
    this.lines = lines
    if (lines) this.scene.add(lines)
    this.show()
  }

  /** Shows the part with how far it was moved, up to `most` mm. */
  async setMap(glb: ArrayBuffer | null, most: number) {
    if (this.map) {
      this.scene.remove(this.map)
      this.map.geometry.dispose()
    }
    this.map = null
    const map = glb && (await meshOf(this.loader, glb))
    this.map = map
    if (map && !this.disposed) {
      map.material = this.mapMaterial
      map.updateMatrixWorld()
      const { colourBy, range } = this.mapMaterial.uniforms
      if (colourBy && range) [colourBy.value, range.value] = [1, [0, most]]
      this.scene.add(map)
    }
    this.show()
  }

  /** Paints the part by what a grading gives, or shows the result again. */
  setField(field: GradedField | null) {
    if (this.painted) this.scene.remove(this.painted)
    this.painted = null
    const of = this.picker.mesh
    if (this.paint.field !== field) this.paint.set(field)
    if (field && of) {
      this.painted = new Mesh(of.geometry, this.paint.material)
      this.painted.raycast = of.raycast
      this.painted.applyMatrix4(of.matrixWorld)
      this.painted.updateMatrixWorld()
      this.scene.add(this.painted)
    }
    this.show()
  }

  /** Shows values at places, of which one may be chosen. */
  setValueMarks(marks: readonly ValueMark[], chosen: number | null) {
    this.marks.set(marks, chosen, this.box.size.length())
    this.draw()
  }

  /** What is seen: the result, the part by its faces, by a grading or by how far it moved, or the struts. */
  private show() {
    const field = this.painted !== null && (!this.picking || this.placing)
    const faces = this.picking && this.picker.mesh !== null && !field
    if (this.painted) this.painted.visible = field
    if (this.picker.mesh) this.picker.mesh.visible = faces
    const instead = faces || field
    if (this.map) this.map.visible = !instead
    if (this.lines) this.lines.visible = !instead && !this.map
    if (this.mesh) this.mesh.visible = !instead && !this.lines && !this.map
    this.draw()
  }

  async setFaces(glb: ArrayBuffer | null) {
    if (this.picker.mesh) this.scene.remove(this.picker.mesh)
    if (glb) await this.picker.load(this.loader, glb)
    if (this.picker.mesh && !this.disposed) this.scene.add(this.picker.mesh)
    this.setPicking(this.picking, this.picker.tool, this.placing)
    this.setField(this.paint.field)
  }

  /**
   * Shows the part by its faces instead of the result; `tool` is what a drag does. Where places are
   * picked a painted part stays painted.
   */
  setPicking(picking: boolean, tool: PickTool = 'click', placing = false) {
    this.picking = picking
    this.placing = placing
    this.picker.tool = tool
    this.show()
  }

  chooseFaces(faces: number[]) {
    this.picker.choose(faces)
    this.draw()
  }

  setCut(cutting: boolean, cut: Cut) {
    this.cutting = cutting
    const normal = new Vector3().setComponent(cut.axis, cut.flipped ? -1 : 1)
    for (const { uniforms } of [this.material, this.paint.material]) {
      if (uniforms.cutting) uniforms.cutting.value = cutting
      uniforms.cut?.value.set(normal.x, normal.y, normal.z, cut.flipped ? -cut.at : cut.at)
    }
    this.plane.set(cutting, cut)
    this.draw()
  }

  /** Shows the handle that moves or turns the lattice. */
  setHandle(handle: Handle, p: Placement) {
    this.handle.set(handle, p)
    this.draw()
  }

  /** Looks along `from` (towards the part, in the bed's axes) so that the whole part is seen. */
  view(from: Vector3) {
    this.viewpoint.view(from, this.ground.frame)
  }

  fit() {
    this.viewpoint.fit()
  }

  /** The plane of the cut, if there is one: what lies on its positive side is gone. */
  private cutPlane() {
    const { x, y, z, w } = this.uniform('cut').value
    return this.cutting ? new Plane(new Vector3(x, y, z), -w) : null
  }

  /** The place of the part in the middle of the picture. mm. */
  middle() {
    return this.viewpoint.middle(this.cutPlane())
  }

  /** A ring around a place, or none. */
  setMark(place: readonly [number, number, number] | null) {
    this.mark.set(place)
    this.draw()
  }

  /** Flies to a place of the part. */
  lookAt(place: readonly [number, number, number]) {
    this.viewpoint.flyTo(place)
  }

  /** A small PNG of the picture alone. */
  card(): Promise<Blob | null> {
    const hidden = [
      this.plane.group,
      this.cage.group,
      this.directions.group,
      this.mark.sprite,
      this.marks.group,
      ...this.handle.objects,
    ]
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
    this.viewpoint.resize(w / h)
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
    const { camera } = this.viewpoint
    const eye = camera.position
    const key = this.viewpoint.light()
    const pixel = this.viewpoint.pixel(this.canvas.height)
    for (const { uniforms } of [this.material, this.mapMaterial, this.paint.material]) {
      uniforms.eye?.value.copy(eye)
      uniforms.key?.value.copy(key)
      if (uniforms.pixel) uniforms.pixel.value = pixel
    }
    this.picker.light(key)
    this.ground.seenFrom(eye)
    this.renderer.render(this.scene, camera)
    if (this.shown > 0) this.events.painted(this.shown)
  }

  /** The values under a pointer that rests. */
  private read(e: PointerEvent): Readout | null {
    if (this.painted?.visible) return this.readField(e)
    if (!this.mesh?.visible || this.handle.pointed || this.picking) return null
    return valuesAt(e, this.canvas, this.viewpoint.camera, this.mesh, this.cutPlane())
  }

  /** What the grading gives under a pointer that rests, on what a cut leaves of the part. */
  private readField(e: PointerEvent): Readout | null {
    const { field } = this.paint
    if (!this.painted || !field) return null
    const place = placeAt(e, this.canvas, this.viewpoint.camera, this.painted, this.cutPlane())
    return (
      place && {
        ...spotOn(this.canvas, e),
        role: 'fill',
        thickness: null,
        value: valueIn(field, place),
      }
    )
  }
}
