import { area, mm } from '../../shared/format'
import { useBench } from '../state'
import { usePicking } from './useFacesInView'

const kindNames = {
  plane: 'Plane',
  cylinder: 'Cylinder',
  cone: 'Cone',
  sphere: 'Sphere',
  free: 'Free face',
}

const asked = {
  drain: 'Click where the hole goes in',
  down: 'Click the face that goes down',
  faces: 'Point at a face of the part',
  point: 'Click where the value belongs',
}

/** The face under the pointer, with its kind and size; what to do where none is. */
export function FaceWords({ number }: { number: number | null }) {
  const picking = usePicking()
  const face = useBench((b) => (number === null ? undefined : b.faces?.list[number]))
  if (!picking) return null
  return (
    <div className="facewords" role="status">
      {face ? (
        <>
          {kindNames[face.mark.kind]}
          <span className="figure">
            {face.radius_mm != null && ` ⌀ ${mm(2 * face.radius_mm)},`} {area(face.mark.area_mm2)}
          </span>
        </>
      ) : (
        asked[picking]
      )}
    </div>
  )
}
