import {
  CanvasTexture,
  ConeGeometry,
  Group,
  Mesh,
  MeshBasicMaterial,
  Sprite,
  SpriteMaterial,
  SRGBColorSpace,
  Vector3,
} from 'three'
import { Line2 } from 'three/examples/jsm/lines/Line2.js'
import { free, wideLine } from './wideLine'
import { inPicture } from '../../theme/tokens'

type Way = readonly (readonly number[])[]

const colours = { u: inPicture.u, v: inPicture.v }

function letter(text: string, colour: string): CanvasTexture {
  const canvas = document.createElement('canvas')
  canvas.width = canvas.height = 64
  const c = canvas.getContext('2d')
  if (c) {
    c.fillStyle = colour
    c.beginPath()
    c.arc(32, 32, 28, 0, 2 * Math.PI)
    c.fill()
    c.fillStyle = inPicture.onSign
    c.font = '600 38px sans-serif'
    c.textAlign = 'center'
    c.textBaseline = 'middle'
    c.fillText(text, 32, 34)
  }
  const texture = new CanvasTexture(canvas)
  texture.colorSpace = SRGBColorSpace
  return texture
}

/** The two directions of a sheet, U and V, as lines along it that end in arrows. */
export class Directions {
  readonly group = new Group()
  private letters = { u: letter('U', colours.u), v: letter('V', colours.v) }

  /** None takes them away. `size`: the part's longest side. */
  set(ways: { u: Way; v: Way } | null, size: number) {
    for (const o of [...this.group.children]) {
      this.group.remove(o)
      if (o instanceof Line2) free(o)
      else if (o instanceof Mesh) {
        o.geometry.dispose()
        o.material.dispose()
      } else if (o instanceof Sprite) o.material.dispose()
    }
    if (!ways) return
    for (const name of ['u', 'v'] as const) {
      const places = ways[name].map((p) => new Vector3().fromArray([...p]))
      const [end, before] = [places.at(-1), places.at(-2)]
      if (!end || !before) continue
      const over = { color: colours[name], depthTest: false, transparent: true }
      const line = wideLine(places, colours[name])
      const tip = new Mesh(
        new ConeGeometry(0.012 * size, 0.045 * size, 16),
        new MeshBasicMaterial(over),
      )
      const along = end.clone().sub(before).normalize()
      tip.quaternion.setFromUnitVectors(new Vector3(0, 1, 0), along)
      tip.position.copy(end)
      const label = new Sprite(
        new SpriteMaterial({ map: this.letters[name], depthTest: false, sizeAttenuation: false }),
      )
      label.scale.setScalar(0.028)
      label.position.copy(end).addScaledVector(along, 0.06 * size)
      for (const o of [tip, label]) o.renderOrder = 5
      this.group.add(line, tip, label)
    }
  }

  dispose() {
    this.set(null, 1)
    this.letters.u.dispose()
    this.letters.v.dispose()
  }
}
