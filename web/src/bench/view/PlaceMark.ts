import { CanvasTexture, Sprite, SpriteMaterial, SRGBColorSpace } from 'three'
import { inPicture } from '../../theme/tokens'

function ring(): CanvasTexture {
  const canvas = document.createElement('canvas')
  canvas.width = canvas.height = 128
  const c = canvas.getContext('2d')
  for (const [colour, width] of [
    [inPicture.onSign, 16],
    [inPicture.mark, 9],
  ] as const) {
    if (!c) break
    c.strokeStyle = colour
    c.lineWidth = width
    c.beginPath()
    c.arc(64, 64, 52, 0, 2 * Math.PI)
    c.stroke()
  }
  const texture = new CanvasTexture(canvas)
  texture.colorSpace = SRGBColorSpace
  return texture
}

/** A ring around the place that a check or the part's health tells of, seen through everything. */
export class PlaceMark {
  readonly sprite = new Sprite(
    new SpriteMaterial({ map: ring(), depthTest: false, sizeAttenuation: false }),
  )

  constructor() {
    this.sprite.scale.setScalar(0.06)
    this.sprite.renderOrder = 6
    this.sprite.visible = false
  }

  set(place: readonly [number, number, number] | null) {
    this.sprite.visible = place !== null
    if (place) this.sprite.position.fromArray(place)
  }

  dispose() {
    this.sprite.material.map?.dispose()
    this.sprite.material.dispose()
  }
}
