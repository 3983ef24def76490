import {
  BoxGeometry,
  BufferAttribute,
  BufferGeometry,
  CylinderGeometry,
  DoubleSide,
  EdgesGeometry,
  Euler,
  Group,
  LineBasicMaterial,
  LineSegments,
  Mesh,
  MeshBasicMaterial,
  SphereGeometry,
  Vector3,
} from 'three'
import type { Zone } from '../../api/client'
import { triple } from '../recipe/zoneRules'

/** Triangles as a veil, by their corners. */
export function veil(corners: Float32Array): Mesh {
  const geometry = new BufferGeometry()
  geometry.setAttribute('position', new BufferAttribute(corners, 3))
  const mesh = new Mesh(
    geometry,
    new MeshBasicMaterial({
      color: '#3F6078',
      transparent: true,
      opacity: 0.16,
      side: DoubleSide,
      depthWrite: false,
    }),
  )
  mesh.renderOrder = 4
  return mesh
}

/** A zone as a veil, stronger when it is `chosen`, with its edges; nothing for faces, which the part itself shows. */
export function zoneGhost(zone: Zone, chosen: boolean): Group | null {
  const { place } = zone
  if ('faces' in place) return null
  const colour =
    zone.role === 'keep_clear' ? '#CF5F28' : zone.role === 'fill' ? '#A98D54' : '#3F6078'
  const group = new Group()
  let body: BufferGeometry
  if (place.shape === 'cylinder') {
    const axis = new Vector3().fromArray(place.axis_mm)
    body = new CylinderGeometry(place.radius_mm, place.radius_mm, axis.length(), 48)
    group.position.fromArray(place.base_mm).addScaledVector(axis, 0.5)
    group.quaternion.setFromUnitVectors(new Vector3(0, 1, 0), axis.normalize())
  } else if (place.shape === 'box') {
    body = new BoxGeometry(...triple(place.size_mm))
    group.position.fromArray(place.centre_mm)
    const [x, y, z] = triple(place.rotation_deg).map((d) => (d * Math.PI) / 180)
    group.setRotationFromEuler(new Euler(x, y, z, 'ZYX'))
  } else {
    body = new SphereGeometry(place.radius_mm, 32, 20)
    group.position.fromArray(place.centre_mm)
  }
  const edges = new EdgesGeometry(body, place.shape === 'sphere' ? 8 : 25)
  group.add(
    new Mesh(
      body,
      new MeshBasicMaterial({
        color: colour,
        transparent: true,
        opacity: chosen ? 0.12 : 0.04,
        side: DoubleSide,
        depthWrite: false,
      }),
    ),
    new LineSegments(
      edges,
      new LineBasicMaterial({
        color: colour,
        transparent: true,
        opacity: (place.shape === 'sphere' ? 0.25 : 0.8) * (chosen ? 1 : 0.4),
        depthTest: !chosen,
      }),
    ),
  )
  group.renderOrder = 4
  return group
}
