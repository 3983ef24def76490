import { Button, Select } from 'antd'
import { useRef, useState } from 'react'
import { api, Refused, type BodyFacts, type Recipe, type Role, type Upload } from '../../api/client'
import { volume } from '../../shared/format'
import { FileField } from '../../shared/FileField'
import { UnitDialog } from '../../shared/UnitDialog'
import { addFile, edit, useBench } from '../state'
import { AloneButton } from './AloneButton'
import { bodyRoleNames } from './zoneRules'

/** What a body is when it has no role of its own. */
const asPart = 'as_part'

const withRole = (name: string, role: Role | typeof asPart) => (r: Recipe) => {
  const others = Object.entries(r.part.roles).filter(([other]) => other !== name)
  const roles = Object.fromEntries(role === asPart ? others : [...others, [name, role]])
  return { ...r, part: { ...r.part, roles } }
}

/** The bodies of the part with their roles; more can be brought in, and the part's own file swapped. */
export function Bodies() {
  const project = useBench((b) => b.project)
  const recipe = useBench((b) => b.recipe)
  const [wanted, setWanted] = useState<{ becomes: 'bodies' | 'part'; upload: Upload } | null>(null)
  const [reading, setReading] = useState(false)
  const picker = useRef<HTMLInputElement>(null)
  const becomes = useRef<'bodies' | 'part'>('bodies')
  if (!project || !recipe) return null
  const choose = (what: 'bodies' | 'part') => {
    becomes.current = what
    picker.current?.click()
  }
  const bring = async (file: File) => {
    setReading(true)
    try {
      setWanted({ becomes: becomes.current, upload: await api.upload(file) })
    } catch (e) {
      if (!(e instanceof Refused)) throw e
      useBench.setState({ problem: { message: `${file.name}: ${e.message}`, hint: e.hint } })
    } finally {
      setReading(false)
    }
  }
  const { list } = project.part
  return (
    <>
      {list.length > 1 && (
        <ul className="zonelist" aria-label="Bodies">
          {list.map((b) => (
            <Row key={b.name} body={b} role={recipe.part.roles[b.name] ?? asPart} />
          ))}
        </ul>
      )}
      {recipe.part.beside.map((b, i) => (
        <div className="line" key={b.file.sha256 + i}>
          <span className="label">From {b.file.name}</span>
          <Button
            size="small"
            type="text"
            onClick={() =>
              edit((r) => ({
                ...r,
                part: { ...r.part, beside: r.part.beside.filter((_, j) => j !== i) },
              }))
            }
          >
            Take away
          </Button>
        </div>
      ))}
      <div className="line">
        <Button size="small" loading={reading} onClick={() => choose('bodies')}>
          Add a body
        </Button>
        <Button size="small" disabled={reading} onClick={() => choose('part')}>
          Swap the part
        </Button>
        <FileField
          picker={picker}
          label="File of a body"
          onFiles={([file]) => file && void bring(file)}
        />
      </div>
      {wanted && (
        <UnitDialog
          upload={wanted.upload}
          onClose={() => setWanted(null)}
          onUse={async (unit) => {
            await addFile({ upload: wanted.upload.upload, unit, becomes: wanted.becomes })
            setWanted(null)
          }}
        />
      )}
    </>
  )
}

function Row({ body, role }: { body: BodyFacts; role: Role | typeof asPart }) {
  return (
    <li className="bodyrow">
      <i className={role} />
      <span className="name" title={body.name}>
        {body.name}
      </span>
      <span className="figure muted">{volume(body.volume_mm3)}</span>
      <AloneButton of={{ of: 'body', name: body.name }} name={body.name} />
      <Select<Role | typeof asPart>
        size="small"
        variant="borderless"
        aria-label={`Role of ${body.name}`}
        style={{ width: 126 }}
        value={role}
        onChange={(v) => edit(withRole(body.name, v))}
        options={[
          { value: asPart, label: 'As the rest' },
          ...Object.entries(bodyRoleNames).map(([value, label]) => ({
            value: value as Role,
            label,
          })),
        ]}
      />
    </li>
  )
}
