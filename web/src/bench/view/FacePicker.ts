import { BufferAttribute, Color, DoubleSide, Mesh, Raycaster, ShaderMaterial, Triangle, Vector3 } from 'three'
import type { GLTFLoader } from 'three/examples/jsm/loaders/GLTFLoader.js'

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

/** The part by its faces, while they are picked. */
export class FacePicker {
  mesh: Mesh | null = null
  private chosen = new Set<number>()
  private hovered: number | null = null
  private material = new ShaderMaterial({
    vertexShader: vertex,
    fragmentShader: fragment,
    side: DoubleSide,
    uniforms: { key: { value: new Vector3(0, 0, 1) }, plain: { value: new Color('#C6CCC8') }, picked: { value: new Color('#CF5F28') } },
  })

  async load(loader: GLTFLoader, glb: ArrayBuffer) {
    const loaded = await loader.parseAsync(glb, '')
    this.mesh?.geometry.dispose()
    this.mesh = null
    loaded.scene.traverse((o) => {
      if (o instanceof Mesh) this.mesh = o
    })
    const mesh = this.mesh as Mesh | null
    if (!mesh) return
    mesh.material = this.material
    mesh.geometry.setAttribute('tint', new BufferAttribute(new Float32Array(mesh.geometry.getAttribute('position').count), 1))
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
    const hit = caster.intersectObject(this.mesh, false)[0]
    if (!hit?.face) return null
    const { geometry, matrixWorld } = this.mesh
    const corner = (i: number) => new Vector3().fromBufferAttribute(geometry.getAttribute('position'), i).applyMatrix4(matrixWorld)
    const outward = new Triangle(corner(hit.face.a), corner(hit.face.b), corner(hit.face.c)).getNormal(new Vector3())
    return { face: geometry.getAttribute('_face').getX(hit.face.a), place: hit.point.toArray(), outward: outward.toArray() }
  }

  dispose() {
    this.mesh?.geometry.dispose()
    this.material.dispose()
  }

  private paint() {
    if (!this.mesh) return
    const { geometry } = this.mesh
    const tint = geometry.getAttribute('tint')
    const face = geometry.getAttribute('_face')
    for (let i = 0; i < tint.count; i++) {
      const f = face.getX(i)
      tint.setX(i, this.chosen.has(f) ? picked : f === this.hovered ? over : none)
    }
    tint.needsUpdate = true
  }
}
