import { Button, Segmented } from 'antd'
import { useState } from 'react'
import type { FaceMark } from '../../api/client'
import { edit, pick, useBench, type Chosen } from '../state'
import type { PickTool } from '../view/FacePicker'
import { followedNames, type FollowedFaces } from './followedRules'
import { around, grown, numbersOf, withFaces } from './faceRules'
import { NumberLine } from './NumberLine'
import { faces as counted } from './zoneRules'

const toolWords: Record<PickTool, string> = {
  click: 'Click faces of the part in the picture; click again to let one go.',
  loop: 'Point near an edge: a click takes the faces along its loop.',
  brush: 'Drag over faces to take them.',
  box: 'Draw a box: faces that lie in it, in front and behind, are taken.',
}

/** Which faces a zone or skin has, and the ways to pick them in the picture. */
export function FacePick({ of, faces }: { of: Chosen; faces: readonly FaceMark[] }) {
  const picking = useBench((b) => b.picking)
  const pickTool = useBench((b) => b.pickTool)
  const chosen = useBench((b) => b.chosen)
  const picture = useBench((b) => b.picture)
  const recipe = useBench((b) => b.recipe)
  const part = useBench((b) => b.faces)
  const [degrees, setDegrees] = useState(30)
  const mine = picking === 'faces' && chosen?.of === of.of && chosen.index === of.index
  const owners = {
    zone: recipe?.zones.list,
    skin: recipe?.zones.skins,
    pocket: recipe?.part.pockets,
  }
  const name =
    of.of in followedNames
      ? followedNames[of.of as FollowedFaces]
      : owners[of.of as keyof typeof owners]?.[of.index]?.name
  const lost = picture?.info.linked.lost_faces.find((l) => l.name === name)
  const take = (numbers: (held: number[]) => number[]) => {
    const list = part?.list ?? []
    edit(
      withFaces(
        of,
        numbers(numbersOf(list, faces)).flatMap((n) => list[n]?.mark ?? []),
      ),
    )
  }
  return (
    <>
      <div className="line">
        <span className="label">{faces.length === 0 ? 'No face yet' : counted(faces.length)}</span>
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
      {mine && (
        <>
          <Segmented<PickTool>
            block
            size="small"
            aria-label="Pick by"
            value={pickTool}
            onChange={(tool) => useBench.setState({ pickTool: tool })}
            options={[
              { value: 'click', label: 'Click' },
              { value: 'loop', label: 'Loop' },
              { value: 'brush', label: 'Brush' },
              { value: 'box', label: 'Box' },
            ]}
          />
          <p className="muted small">{toolWords[pickTool]}</p>
          <NumberLine
            label="Faces end at edges over"
            unit="°"
            value={recipe?.part.crease_deg ?? 28}
            onSet={(crease_deg) => {
              edit((r) => ({ ...r, part: { ...r.part, crease_deg } }))
              void pick('faces')
            }}
          />
          {faces.length > 0 && part && (
            <>
              <NumberLine
                label="Grow over edges up to"
                unit="°"
                value={degrees}
                onSet={(v) => setDegrees(Math.min(Math.max(v, 0), 180))}
              />
              <div className="line">
                <Button
                  size="small"
                  title="All faces that hang together with these over such edges"
                  onClick={() => take((held) => grown(part.list, held, degrees))}
                >
                  Grow
                </Button>
                <Button
                  size="small"
                  title="The faces along the loops of edges around these"
                  onClick={() => take((held) => around(part.list, held))}
                >
                  Those around
                </Button>
                <Button size="small" type="text" onClick={() => take(() => [])}>
                  None
                </Button>
              </div>
            </>
          )}
        </>
      )}
      {lost && (
        <p className="remark">
          {lost.faces === 1 ? 'One face is' : `${lost.faces} faces are`} no longer found on the
          part.
        </p>
      )}
    </>
  )
}
