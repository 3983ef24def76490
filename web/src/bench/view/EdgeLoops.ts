import { Group, Vector3 } from 'three'
import type { Line2 } from 'three/examples/jsm/lines/Line2.js'
import type { EdgeLoop } from '../../api/client'
import type { Met } from './FacePicker'
import { free, wideLine } from './wideLine'
import { inPicture } from '../../theme/tokens'

interface Loop {
  points: Vector3[]
  beyond: number[]
}

/** Loops of edges around the faces of the part: the one nearest to the pointer lights up. */
export class EdgeLoops {
  readonly group = new Group()
  private of = new Map<number, Promise<Loop[]>>()
  private shown: Loop | null = null
  private line: Line2 | null = null
  private last: Met | null = null
  /** Gives the loops around a face. */
  source: (face: number) => Promise<EdgeLoop[]> = () => Promise.resolve([])

  constructor(private readonly changed: () => void) {}

  /** The part has changed. */
  forget() {
    this.of.clear()
    this.last = null
    this.light(null)
  }

  /** Lights the loop nearest to a place on a face, as soon as it is known; `null` for none. */
  near(met: Met | null) {
    this.last = met
    if (!met) return this.light(null)
    void this.nearest(met).then((loop) => this.last === met && this.light(loop))
  }

  /** The faces beyond the loop nearest to a place. */
  async beyond(met: Met): Promise<number[]> {
    return (await this.nearest(met))?.beyond ?? []
  }

  private async nearest(met: Met): Promise<Loop | null> {
    const place = new Vector3().fromArray(met.place)
    const far = ({ points }: Loop) =>
      Math.min(...points.map((p, n) => away(place, p, points[(n + 1) % points.length] ?? p)))
    const loops = (await this.around(met.face)).map((loop) => ({ loop, far: far(loop) }))
    return loops.sort((a, b) => a.far - b.far)[0]?.loop ?? null
  }

  private around(face: number): Promise<Loop[]> {
    const known = this.of.get(face)
    if (known) return known
    const asked = this.source(face).then((loops) =>
      loops.map((l) => ({
        points: l.points_mm.map((p) => new Vector3().fromArray(p)),
        beyond: l.beyond,
      })),
    )
    this.of.set(face, asked)
    // Without an answer the face is asked again.
    return asked.catch(() => (this.of.delete(face), []))
  }

  private light(loop: Loop | null) {
    if (loop === this.shown) return
    this.shown = loop
    if (this.line) {
      this.group.remove(this.line)
      free(this.line)
    }
    const first = loop?.points[0]
    this.line = loop && first ? wideLine([...loop.points, first], inPicture.loop) : null
    if (this.line) this.group.add(this.line)
    this.changed()
  }
}

const [along, out] = [new Vector3(), new Vector3()]

/** How far a place is from the line between two points. */
function away(place: Vector3, from: Vector3, to: Vector3): number {
  along.subVectors(to, from)
  const share = Math.min(
    Math.max(out.subVectors(place, from).dot(along) / Math.max(along.lengthSq(), 1e-12), 0),
    1,
  )
  return out.copy(from).addScaledVector(along, share).distanceTo(place)
}
