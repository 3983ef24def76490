import {
  BufferGeometry,
  CanvasTexture,
  Float32BufferAttribute,
  Group,
  LineBasicMaterial,
  LineSegments,
  Matrix3,
  Matrix4,
  Mesh,
  MeshBasicMaterial,
  PlaneGeometry,
  Quaternion,
  Vector3,
} from 'three'
import type { Box } from './CutPlane'
import { inPicture } from '../../theme/tokens'

/** How the part stands: columns of the turn to the bed's axes, and the bed's sides in mm. */
export interface Standing {
  turn: number[]
  bed: number[]
}

/** What the part stands on: its shadow, and the printer's bed when there is one. */
export class Ground {
  readonly group = new Group()
  /** From the bed's axes to the part's. */
  readonly frame = new Quaternion()
  private floor: Mesh
  private bed: LineSegments | null = null

  constructor() {
    this.floor = new Mesh(
      new PlaneGeometry(1, 1),
      new MeshBasicMaterial({ map: shadow(), transparent: true, depthWrite: false }),
    )
    this.floor.renderOrder = -1
    this.group.add(this.floor)
  }

  get up() {
    return new Vector3(0, 0, 1).applyQuaternion(this.frame)
  }

  set(box: Box, standing: Standing | null) {
    const turn = new Matrix3().fromArray(standing?.turn ?? [1, 0, 0, 0, 1, 0, 0, 0, 1])
    this.frame.setFromRotationMatrix(new Matrix4().setFromMatrix3(turn.clone().transpose()))
    // The box as it stands.
    const low = new Vector3(Infinity, Infinity, Infinity)
    const high = low.clone().negate()
    for (let i = 0; i < 8; i++) {
      const corner = new Vector3(i & 1, (i >> 1) & 1, i >> 2)
        .multiply(box.size)
        .add(box.min)
        .applyMatrix3(turn)
      low.min(corner)
      high.max(corner)
    }
    const size = high.clone().sub(low)
    const foot = low
      .clone()
      .add(high)
      .multiplyScalar(0.5)
      .setZ(low.z - size.z * 0.004)
    this.group.quaternion.copy(this.frame)
    this.group.position.copy(foot.applyQuaternion(this.frame))
    const wide = Math.max(size.x, size.y) * 0.7
    this.floor.scale.set(size.x + wide, size.y + wide, 1)
    if (this.bed) {
      this.group.remove(this.bed)
      this.bed.geometry.dispose()
    }
    this.bed = standing && bedLines(standing.bed[0] ?? 1, standing.bed[1] ?? 1)
    if (this.bed) this.group.add(this.bed)
  }

  /** From below nothing hides the part. */
  seenFrom(eye: Vector3) {
    this.group.visible = eye.clone().sub(this.group.position).dot(this.up) > 0
  }
}

/** The outline of a bed with a line about every tenth of it. */
function bedLines(width: number, depth: number): LineSegments {
  const step = [5, 10, 20, 50, 100, 200, 500].find((s) => Math.max(width, depth) / s <= 24) ?? 1000
  const places: number[] = []
  const colours: number[] = []
  const line = (a: [number, number], b: [number, number], strong: boolean) => {
    places.push(...a, 0, ...b, 0)
    const c = strong ? [0.12, 0.36, 0.3] : [0.6, 0.66, 0.63]
    colours.push(...c, ...c)
  }
  const [w, d] = [width / 2, depth / 2]
  for (let x = -w + step; x < w - 1e-6; x += step) line([x, -d], [x, d], false)
  for (let y = -d + step; y < d - 1e-6; y += step) line([-w, y], [w, y], false)
  line([-w, -d], [w, -d], true)
  line([w, -d], [w, d], true)
  line([w, d], [-w, d], true)
  line([-w, d], [-w, -d], true)
  const geometry = new BufferGeometry()
  geometry.setAttribute('position', new Float32BufferAttribute(places, 3))
  geometry.setAttribute('color', new Float32BufferAttribute(colours, 3))
  return new LineSegments(
    geometry,
    new LineBasicMaterial({
      vertexColors: true,
      transparent: true,
      opacity: 0.7,
      depthWrite: false,
    }),
  )
}

/** Soft shadow under the part. */
function shadow(): CanvasTexture {
  const canvas = document.createElement('canvas')
  canvas.width = canvas.height = 128
  const g = canvas.getContext('2d')
  if (g) {
    const fade = g.createRadialGradient(64, 64, 8, 64, 64, 64)
    fade.addColorStop(0, `rgba(${inPicture.shade}, 0.3)`)
    fade.addColorStop(0.55, `rgba(${inPicture.shade}, 0.14)`)
    fade.addColorStop(1, `rgba(${inPicture.shade}, 0)`)
    g.fillStyle = fade
    g.fillRect(0, 0, 128, 128)
  }
  return new CanvasTexture(canvas)
}
