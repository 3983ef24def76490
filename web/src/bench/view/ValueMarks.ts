import {
  CanvasTexture,
  Group,
  Mesh,
  MeshBasicMaterial,
  Raycaster,
  SphereGeometry,
  Sprite,
  SpriteMaterial,
  SRGBColorSpace,
  type Camera,
} from 'three'
import { dragged, pointerOn, spotOf, type Spot } from './pointer'
import { inPicture } from '../../theme/tokens'

/** A value that belongs to a place. */
export interface ValueMark {
  place: readonly number[]
  words: string
}

function label(words: string): Sprite {
  const canvas = document.createElement('canvas')
  const c = canvas.getContext('2d')
  const font = "600 30px 'Hanken Grotesk Variable', sans-serif"
  if (c) c.font = font
  const wide = Math.ceil((c?.measureText(words).width ?? 60) + 28)
  canvas.width = wide
  canvas.height = 46
  if (c) {
    c.font = font
    c.fillStyle = inPicture.sign
    c.beginPath()
    c.roundRect(1, 1, wide - 2, 44, 12)
    c.fill()
    c.fillStyle = inPicture.onSign
    c.textBaseline = 'middle'
    c.fillText(words, 14, 24)
  }
  const texture = new CanvasTexture(canvas)
  texture.colorSpace = SRGBColorSpace
  const sprite = new Sprite(
    new SpriteMaterial({ map: texture, depthTest: false, sizeAttenuation: false }),
  )
  const high = 0.019
  sprite.scale.set((high * wide) / 46, high, 1)
  sprite.center.set(-0.12, 0.5)
  sprite.renderOrder = 7
  return sprite
}

/** Points of a grading with their values, seen through everything: one is chosen by a click. */
export class ValueMarks {
  readonly group = new Group()
  private balls: Mesh[] = []
  private ball = new SphereGeometry(1, 20, 14)
  private plain = new MeshBasicMaterial({ color: inPicture.sign, depthTest: false })
  private picked = new MeshBasicMaterial({ color: inPicture.picked, depthTest: false })

  /** `active`: does a click choose a point now? */
  constructor(
    canvas: HTMLCanvasElement,
    camera: Camera,
    events: { active: () => boolean; choose: (n: number) => void },
  ) {
    const caster = new Raycaster()
    let down: Spot | null = null
    canvas.addEventListener('pointerdown', (e) => (down = e.button === 0 ? spotOf(e) : null))
    canvas.addEventListener('pointerup', (e) => {
      // A drag turns the view.
      if (this.balls.length === 0 || !down || dragged(down, e) || !events.active()) return
      caster.setFromCamera(pointerOn(canvas, e), camera)
      const hit = caster.intersectObjects(this.balls, false)[0]
      const n = this.balls.findIndex((ball) => ball === hit?.object)
      if (n >= 0) events.choose(n)
    })
  }

  set(marks: readonly ValueMark[], chosen: number | null, size: number) {
    this.clear()
    marks.forEach(({ place, words }, n) => {
      const ball = new Mesh(this.ball, n === chosen ? this.picked : this.plain)
      ball.position.fromArray([...place])
      ball.scale.setScalar(0.011 * size)
      ball.renderOrder = 6
      const text = label(words)
      text.position.copy(ball.position)
      this.balls.push(ball)
      this.group.add(ball, text)
    })
  }

  private clear() {
    this.balls = []
    for (const o of [...this.group.children]) {
      if (o instanceof Sprite) {
        o.material.map?.dispose()
        o.material.dispose()
      }
      this.group.remove(o)
    }
  }

  dispose() {
    this.clear()
    this.ball.dispose()
    this.plain.dispose()
    this.picked.dispose()
  }
}
