import {
  BufferAttribute,
  Color,
  DoubleSide,
  Raycaster,
  ShaderMaterial,
  Triangle,
  Vector3,
  type Camera,
  type Mesh,
} from 'three'
import type { GLTFLoader } from 'three/examples/jsm/loaders/GLTFLoader.js'
import { acceleratedRaycast, MeshBVH } from 'three-mesh-bvh'
import { EdgeLoops } from './EdgeLoops'
import { meshOf } from './meshOf'
import { dragged, pointerOn, spotOf, type Spot } from './pointer'
import { inPicture } from '../../theme/tokens'

const vertex = /* glsl */ `
  attribute float tint;
  varying vec3 vNormal;
  varying float vTint;
  void main() {
    vNormal = normal;
    vTint = tint;
    gl_Position = projectionMatrix * modelViewMatrix * vec4(position, 1.0);
  }
`
const fragment = /* glsl */ `
  uniform vec3 key;
  uniform vec3 plain;
  uniform vec3 picked;
  varying vec3 vNormal;
  varying float vTint;
  void main() {
    vec3 n = normalize(vNormal) * (gl_FrontFacing ? 1.0 : -1.0);
    float light = 0.62 + 0.30 * max(dot(n, key), 0.0) + 0.10 * n.z;
    gl_FragColor = vec4(mix(plain, picked, vTint) * light, 1.0);
    #include <colorspace_fragment>
  }
`
const [none, over, picked] = [0, 0.35, 0.9]

/** A place on a face of the part. mm. */
export interface Met {
  face: number
  place: [number, number, number]
  /** Unit. */
  outward: [number, number, number]
}

/**
 * A click picks a face or the faces beyond a loop of edges; a drag takes the faces that it passes,
 * or those in its box.
 */
export type PickTool = 'click' | 'loop' | 'brush' | 'box'

type Band = [number, number, number, number]

interface Pointing {
  active: () => boolean
  /** The face under the pointer has changed. */
  hover: (face: number | null) => void
  pick: (met: Met) => void
  sweep: (faces: number[]) => void
  /** A loop of edges was clicked: the faces beyond it. */
  loop: (faces: number[]) => void
  band: (b: Band | null) => void
  /** A drag belongs to the picker. */
  holding: (on: boolean) => void
}

/** The part by its faces, while they are picked. */
export class FacePicker {
  mesh: Mesh | null = null
  private chosen = new Set<number>()
  private hovered: number | null = null
  private brushed = new Set<number>()
  tool: PickTool = 'click'
  readonly loops: EdgeLoops
  private material = new ShaderMaterial({
    vertexShader: vertex,
    fragmentShader: fragment,
    side: DoubleSide,
    uniforms: {
      key: { value: new Vector3(0, 0, 1) },
      plain: { value: new Color(inPicture.face) },
      picked: { value: new Color(inPicture.picked) },
    },
  })

  /** `changed`: the picture has to be drawn anew. */
  constructor(changed: () => void) {
    this.loops = new EdgeLoops(changed)
  }

  async load(loader: GLTFLoader, glb: ArrayBuffer) {
    const mesh = await meshOf(loader, glb)
    this.mesh?.geometry.dispose()
    this.mesh = mesh
    this.loops.forget()
    if (!mesh) return
    mesh.material = this.material
    // A tree over the triangles: a part of a million of them answers within a frame.
    mesh.geometry.boundsTree = new MeshBVH(mesh.geometry, { indirect: true })
    mesh.raycast = acceleratedRaycast
    mesh.geometry.setAttribute(
      'tint',
      new BufferAttribute(new Float32Array(mesh.geometry.getAttribute('position').count), 1),
    )
    mesh.updateMatrixWorld()
    this.paint()
  }

  light(key: Vector3) {
    this.material.uniforms.key?.value.copy(key)
  }

  choose(faces: number[]) {
    this.chosen = new Set(faces)
    this.paint()
  }

  /** Says whether the picture changed. */
  hover(face: number | null): boolean {
    if (face === this.hovered) return false
    this.hovered = face
    this.paint()
    return true
  }

  /** What a ray meets first. */
  at(caster: Raycaster): Met | null {
    if (!this.mesh) return null
    caster.firstHitOnly = true
    const hit = caster.intersectObject(this.mesh, false)[0]
    if (!hit?.face) return null
    const { geometry, matrixWorld } = this.mesh
    const corner = (i: number) =>
      new Vector3()
        .fromBufferAttribute(geometry.getAttribute('position'), i)
        .applyMatrix4(matrixWorld)
    const outward = new Triangle(
      corner(hit.face.a),
      corner(hit.face.b),
      corner(hit.face.c),
    ).getNormal(new Vector3())
    return {
      face: geometry.getAttribute('_face').getX(hit.face.a),
      place: hit.point.toArray(),
      outward: outward.toArray(),
    }
  }

  /** Follows the pointer over a canvas. */
  watch(canvas: HTMLCanvasElement, camera: Camera, on: Pointing) {
    const caster = new Raycaster()
    const under = (e: PointerEvent) => {
      caster.setFromCamera(pointerOn(canvas, e), camera)
      return this.at(caster)
    }
    const brush = (e: PointerEvent) => {
      const face = under(e)?.face
      if (face === undefined || this.brushed.has(face)) return
      this.brushed.add(face)
      this.paint()
      on.holding(true)
    }
    let down: Spot | null = null
    let swept: 'brush' | 'box' | null = null
    const band = (e: PointerEvent): Band => {
      const r = canvas.getBoundingClientRect()
      const [x, y] = down ?? spotOf(e)
      return [
        Math.min(x, e.clientX) - r.left,
        Math.min(y, e.clientY) - r.top,
        Math.max(x, e.clientX) - r.left,
        Math.max(y, e.clientY) - r.top,
      ]
    }
    canvas.addEventListener(
      'pointerdown',
      (e) => {
        down = e.button === 0 ? spotOf(e) : null
        if (!down || !on.active() || this.tool === 'click' || this.tool === 'loop') return
        swept = this.tool
        on.holding(true)
        canvas.setPointerCapture(e.pointerId)
        if (swept === 'brush') brush(e)
        e.stopImmediatePropagation()
      },
      { capture: true },
    )
    canvas.addEventListener('pointermove', (e) => {
      if (!on.active()) return
      if (swept === 'brush') brush(e)
      else if (swept === 'box') on.band(band(e))
      else if (e.buttons === 0) {
        const met = under(e)
        if (this.hover(met?.face ?? null)) on.hover(met?.face ?? null)
        this.loops.near(this.tool === 'loop' ? met : null)
      }
    })
    canvas.addEventListener('pointerleave', () => {
      if (this.hover(null)) on.hover(null)
      this.loops.near(null)
    })
    canvas.addEventListener('pointerup', (e) => {
      const moved = down && dragged(down, e)
      if (swept) {
        const faces =
          swept === 'brush' ? [...this.brushed] : moved ? this.within(canvas, camera, band(e)) : []
        swept = null
        this.brushed.clear()
        on.holding(false)
        on.band(null)
        if (faces.length > 0) on.sweep(faces)
      } else if (on.active() && down && !moved) {
        // A drag turns the view.
        const met = under(e)
        if (met && this.tool === 'loop') void this.loops.beyond(met).then(on.loop)
        else if (met) on.pick(met)
      }
    })
  }

  /** Faces of which every point is seen in a box of the canvas, in front or behind. */
  private within(canvas: HTMLCanvasElement, camera: Camera, [x0, y0, x1, y1]: Band): number[] {
    if (!this.mesh) return []
    const position = this.mesh.geometry.getAttribute('position')
    const face = this.mesh.geometry.getAttribute('_face')
    const [w, h] = [canvas.clientWidth, canvas.clientHeight]
    const all = new Set<number>()
    const out = new Set<number>()
    const p = new Vector3()
    for (let i = 0; i < position.count; i++) {
      p.fromBufferAttribute(position, i).applyMatrix4(this.mesh.matrixWorld).project(camera)
      const [x, y] = [((p.x + 1) / 2) * w, ((1 - p.y) / 2) * h]
      all.add(face.getX(i))
      if (x < x0 || x > x1 || y < y0 || y > y1) out.add(face.getX(i))
    }
    return [...all].filter((f) => !out.has(f))
  }

  dispose() {
    this.mesh?.geometry.dispose()
    this.loops.forget()
    this.material.dispose()
  }

  private paint() {
    if (!this.mesh) return
    const { geometry } = this.mesh
    const tint = geometry.getAttribute('tint')
    const face = geometry.getAttribute('_face')
    const of = (f: number) =>
      this.chosen.has(f) || this.brushed.has(f) ? picked : f === this.hovered ? over : none
    // Points of a face follow each other.
    let [last, colour] = [-1, none]
    for (let i = 0; i < tint.count; i++) {
      const f = face.getX(i)
      if (f !== last) [last, colour] = [f, of(f)]
      tint.setX(i, colour)
    }
    tint.needsUpdate = true
  }
}
