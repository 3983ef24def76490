import { Button } from 'antd'
import { area, size } from '../../shared/format'
import { edit, pick, useBench } from '../state'
import { ChoiceLine, SwitchLine } from './Lines'
import { TripleLine } from './NumberLine'
import { axes, axisDown, withStand } from './standRules'
import { Value } from './Value'

/** How the part stands on the printer's bed: files are written that way. */
export function StandFields() {
  const project = useBench((b) => b.project)
  const recipe = useBench((b) => b.recipe)
  const picking = useBench((b) => b.picking)
  if (!project || !recipe) return null
  const { stand } = recipe
  const { standing } = project
  return (
    <>
      <SwitchLine
        label="Stand it on the print bed"
        checked={Boolean(stand)}
        onChange={(on) => edit((r) => (on ? withStand({})(r) : { ...r, stand: undefined }))}
      />
      {stand && (
        <>
          <ChoiceLine
            label="Down"
            value={axisDown(stand)}
            options={axes.map((a) => ({ value: a.label, label: a.label }))}
            onChange={(label) =>
              edit(
                withStand({
                  down: [...(axes.find((a) => a.label === label)?.down ?? [0, 0, -1])] as [
                    number,
                    number,
                    number,
                  ],
                }),
              )
            }
          />
          <div className="line">
            <span className="label">
              {axisDown(stand) === '' ? 'Down is a picked face' : 'Or on a face of the part'}
            </span>
            <Button
              size="small"
              type={picking === 'down' ? 'primary' : 'default'}
              onClick={() => void pick(picking === 'down' ? null : 'down')}
            >
              {picking === 'down' ? 'Click the face' : 'Pick it'}
            </Button>
          </div>
          <Value
            label="Turned on the bed"
            value={stand.turn_deg}
            unit="°"
            range={[-180, 180]}
            digits={0}
            still={() => true}
            change={(turn_deg) => withStand({ turn_deg })}
          />
          <TripleLine
            label="Bed"
            unit="mm"
            value={stand.bed_mm}
            onSet={(bed_mm) => edit(withStand({ bed_mm }))}
          />
          <p className={standing.fits ? 'muted small' : 'remark'}>
            {standing.fits ? 'Stands' : 'Does not fit: it stands'} {size(standing.size_mm)}, on{' '}
            {area(standing.contact_mm2)} of the bed. Files are written so.
          </p>
        </>
      )}
    </>
  )
}
