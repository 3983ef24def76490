import { Button } from 'antd'
import type { FaceMark } from '../../api/client'
import { pick, useBench, type Chosen } from '../state'

/** Which faces a zone or skin has, and the way to pick them in the picture. */
export function FacePick({ of, faces }: { of: Chosen; faces: readonly FaceMark[] }) {
  const { picking, chosen, picture, recipe } = useBench()
  const mine = picking === 'faces' && chosen?.of === of.of && chosen.index === of.index
  const name = of.of === 'skin' ? recipe?.zones.skins[of.index]?.name : recipe?.zones.list[of.index]?.name
  const lost = picture?.info.linked.lost_faces.find((l) => l.name === name)
  return (
    <>
      <div className="line">
        <span className="label">{faces.length === 0 ? 'No face yet' : faces.length === 1 ? '1 face' : `${faces.length} faces`}</span>
        <Button
          size="small"
          type={mine ? 'primary' : 'default'}
          onClick={() => {
            useBench.setState({ chosen: of })
            void pick(mine ? null : 'faces')
          }}
        >
          {mine ? 'Done picking' : 'Pick faces'}
        </Button>
      </div>
      {mine && <p className="muted small">Click faces of the part in the picture; click again to let one go.</p>}
      {lost && <p className="remark">{lost.faces === 1 ? 'One face is' : `${lost.faces} faces are`} no longer found on the part.</p>}
    </>
  )
}
