import { Input, Segmented, Select } from 'antd'
import type { Place, Role, Zone } from '../../api/client'
import { edit } from '../state'
import { FacePick } from './FacePick'
import { NumberLine, TripleLine } from './NumberLine'
import { OwnFill } from './OwnFill'
import { roleNames, triple, withZone } from './zoneRules'

const axes = ['X', 'Y', 'Z'] as const

/** Name, role and place of a zone. */
export function ZoneEditor({ index, zone }: { index: number; zone: Zone }) {
  const set = (change: Partial<Zone>) => edit(withZone(index, (z) => ({ ...z, ...change })))
  const place = (p: Place) => set({ place: p })
  return (
    <div className="editor">
      <Input
        key={zone.name}
        size="small"
        aria-label="Name of the zone"
        maxLength={60}
        defaultValue={zone.name}
        onBlur={(e) =>
          e.target.value && e.target.value !== zone.name && set({ name: e.target.value })
        }
        onPressEnter={(e) => e.currentTarget.blur()}
      />
      <div className="line">
        <span className="label">Role</span>
        <Select<Role>
          size="small"
          aria-label="Role"
          style={{ width: 128 }}
          value={zone.role}
          onChange={(role) => set({ role })}
          options={Object.entries(roleNames).map(([value, label]) => ({
            value: value as Role,
            label,
          }))}
        />
      </div>
      <Fields index={index} place={zone.place} onSet={place} />
      {zone.role === 'fill' && <OwnFill index={index} zone={zone} />}
    </div>
  )
}

function Fields({
  index,
  place,
  onSet,
}: {
  index: number
  place: Place
  onSet: (p: Place) => void
}) {
  if (place.shape === 'cylinder') {
    const length = Math.hypot(...place.axis_mm)
    const along = place.axis_mm.findIndex((v) => Math.abs(Math.abs(v) - length) < 1e-9)
    return (
      <>
        <div className="line">
          <span className="label">Along</span>
          <Segmented
            size="small"
            aria-label="Along"
            value={along}
            onChange={(a) =>
              onSet({ ...place, axis_mm: triple([0, 1, 2].map((i) => (i === a ? length : 0))) })
            }
            options={axes.map((label, i) => ({ label, value: i }))}
          />
        </div>
        <TripleLine
          label="Base"
          unit="mm"
          value={place.base_mm}
          onSet={(base_mm) => onSet({ ...place, base_mm })}
        />
        <NumberLine
          label="Length"
          value={length}
          unit="mm"
          onSet={(v) =>
            onSet({ ...place, axis_mm: triple(place.axis_mm.map((a) => (a * v) / length)) })
          }
        />
        <NumberLine
          label="Diameter"
          value={2 * place.radius_mm}
          unit="mm"
          onSet={(v) => onSet({ ...place, radius_mm: v / 2 })}
        />
      </>
    )
  }
  if (place.shape === 'box') {
    return (
      <>
        <TripleLine
          label="Middle"
          unit="mm"
          value={place.centre_mm}
          onSet={(centre_mm) => onSet({ ...place, centre_mm })}
        />
        <TripleLine
          label="Side"
          unit="mm"
          value={place.size_mm}
          onSet={(size_mm) => onSet({ ...place, size_mm })}
        />
        <TripleLine
          label="Turned about"
          unit="°"
          value={place.rotation_deg}
          onSet={(rotation_deg) => onSet({ ...place, rotation_deg })}
        />
      </>
    )
  }
  if (place.shape === 'sphere') {
    return (
      <>
        <TripleLine
          label="Middle"
          unit="mm"
          value={place.centre_mm}
          onSet={(centre_mm) => onSet({ ...place, centre_mm })}
        />
        <NumberLine
          label="Diameter"
          value={2 * place.radius_mm}
          unit="mm"
          onSet={(v) => onSet({ ...place, radius_mm: v / 2 })}
        />
      </>
    )
  }
  return (
    <>
      <FacePick of={{ of: 'zone', index }} faces={place.faces} />
      <NumberLine
        label="Depth"
        value={place.depth_mm}
        unit="mm"
        onSet={(depth_mm) => onSet({ ...place, depth_mm })}
      />
    </>
  )
}
