import type { Vector3 } from 'three'
import { Line2 } from 'three/examples/jsm/lines/Line2.js'
import { LineGeometry } from 'three/examples/jsm/lines/LineGeometry.js'
import { LineMaterial } from 'three/examples/jsm/lines/LineMaterial.js'

/** A line some pixels wide, seen through everything. */
export function wideLine(points: readonly Vector3[], color: string): Line2 {
  const geometry = new LineGeometry()
  geometry.setPositions(points.flatMap((p) => p.toArray()))
  const line = new Line2(
    geometry,
    new LineMaterial({ color, linewidth: 3, depthTest: false, transparent: true }),
  )
  line.renderOrder = 5
  return line
}

export function free(line: Line2) {
  line.geometry.dispose()
  line.material.dispose()
}
