import { useQuery, useQueryClient } from '@tanstack/react-query'
import { App as AntApp, Button, Popconfirm } from 'antd'
import { useEffect, useRef, useState } from 'react'
import { api, Refused, type NewProject, type ProjectCard, type Upload } from '../api/client'
import { ago, mass, percent, size, volume } from '../shared/format'
import { FileField } from '../shared/FileField'
import { Header } from '../shared/Header'
import { go } from '../shared/place'
import { UnitDialog, type Unit } from '../shared/UnitDialog'
import './start.css'

const words = (e: unknown) => (e instanceof Refused ? `${e.message} ${e.hint}` : 'Ulmix does not answer. Is it still running?')

export function Start() {
  const { message } = AntApp.useApp()
  const queries = useQueryClient()
  const projects = useQuery({ queryKey: ['projects'], queryFn: api.projects })
  const options = useQuery({ queryKey: ['options'], queryFn: api.options, staleTime: Infinity })
  /** Files that were brought in together: the first is the part, the others stand beside it. */
  const [uploads, setUploads] = useState<Upload[]>([])
  const [reading, setReading] = useState<string | null>(null)
  const [refused, setRefused] = useState<{ file: string; text: string } | null>(null)
  const [over, setOver] = useState(false)
  const picker = useRef<HTMLInputElement>(null)
  const largest = options.data?.largest_file_bytes

  const create = async (from: NewProject, beside: Upload[] = [], unit: Unit = 'mm') => {
    try {
      let p = await api.create(from)
      for (const more of beside) p = await api.addFile(p.id, p.revision, { upload: more.upload, unit, becomes: 'bodies' })
      await queries.invalidateQueries({ queryKey: ['projects'] })
      go(`/project/${p.id}`)
    } catch (e) {
      message.error(words(e), 8)
    }
  }

  const bring = async (files: File[]) => {
    setRefused(null)
    const read: Upload[] = []
    for (const file of files) {
      if (largest && file.size > largest) {
        setRefused({ file: file.name, text: `It has ${Math.round(file.size / 1048576)} MB; files up to ${Math.round(largest / 1048576)} MB can be brought in. Reduce the part first.` })
        return
      }
      setReading(file.name)
      try {
        read.push(await api.upload(file))
      } catch (e) {
        setRefused({ file: file.name, text: words(e) })
        setReading(null)
        return
      }
    }
    setReading(null)
    setUploads(read)
  }

  useEffect(() => {
    document.title = 'Ulmix'
    const stop = (e: DragEvent) => {
      e.preventDefault()
      setOver(e.type === 'dragover')
    }
    const drop = (e: DragEvent) => {
      e.preventDefault()
      setOver(false)
      void bring([...(e.dataTransfer?.files ?? [])])
    }
    window.addEventListener('dragover', stop)
    window.addEventListener('dragleave', stop)
    window.addEventListener('drop', drop)
    return () => {
      window.removeEventListener('dragover', stop)
      window.removeEventListener('dragleave', stop)
      window.removeEventListener('drop', drop)
    }
  })

  const [first, ...beside] = uploads
  return (
    <div className="start">
      <Header />
      <main>
        <section className={over ? 'begin over' : 'begin'}>
          <div className="drop">
            <h1>Make a part lighter</h1>
            <p>Drop an STL, 3MF, OBJ, PLY or GLB file anywhere on this page, or choose one. Several at once become the bodies of one part.</p>
            <div className="row">
              <Button type="primary" size="large" loading={reading !== null} onClick={() => picker.current?.click()}>
                {reading ? `Reading ${reading}` : 'Choose a part'}
              </Button>
              <FileField picker={picker} label="Part file" multiple onFiles={(files) => void bring(files)} />
            </div>
            {refused && (
              <p className="refused" role="alert">
                <strong>{refused.file}</strong> {refused.text}
              </p>
            )}
          </div>
          <div className="or">
            <div>
              <h3>Try a part of the Reedling buoy</h3>
              <p className="muted">Each opens with a first recipe.</p>
              <div className="shapes">
                {options.data?.reedling.map((p) => (
                  <Button key={p.part} title={p.words} onClick={() => void create({ from: 'reedling', part: p.part })}>
                    {p.title}
                  </Button>
                ))}
              </div>
            </div>
            <div>
              <h3>Begin with a shape</h3>
              <p className="muted">Its dimensions stay editable on the bench.</p>
              <div className="shapes">
                {options.data?.shapes.map(({ title, shape }) => (
                  <Button key={title} onClick={() => void create({ from: 'shape', shape })}>
                    {title}
                  </Button>
                ))}
              </div>
            </div>
          </div>
        </section>
        <div className="row between">
          <h2>Projects</h2>
          {options.data?.can_log_out && (
            <button className="plainbutton" onClick={() => void api.logOut().then(() => location.assign('/'))}>
              Log out
            </button>
          )}
        </div>
        {projects.isError && <p className="bad">{words(projects.error)}</p>}
        {projects.data?.length === 0 && <p className="muted">None yet.</p>}
        <ul className="cards">
          {projects.data?.map((p) => (
            <Card key={p.id} project={p} />
          ))}
        </ul>
      </main>
      {first && <UnitDialog upload={first} beside={beside} onClose={() => setUploads([])} onUse={(unit) => create({ from: 'upload', upload: first.upload, unit }, beside, unit)} />}
    </div>
  )
}

function Card({ project: p }: { project: ProjectCard }) {
  const [bare, setBare] = useState(false)
  const facts = p.facts
  if (p.fault || !facts) return <Unreadable project={p} />
  return (
    <li className="card">
      <a
        href={`/project/${p.id}`}
        onClick={(e) => {
          e.preventDefault()
          go(`/project/${p.id}`)
        }}
      >
        <div className="thumb">{bare ? <span className="muted">No picture yet</span> : <img src={`/api/projects/${p.id}/card?t=${p.updated_ms}`} alt="" loading="lazy" onError={() => setBare(true)} />}</div>
        <h3>{p.name}</h3>
        <p className="muted">{facts.structure}</p>
        {facts.summary && (
          <p className="verdict">
            <span className={`dot ${facts.summary.verdict}`} aria-hidden /> {facts.summary.words}
          </p>
        )}
        <dl>
          <div>
            <dt>Lighter by</dt>
            <dd>{facts.saved_percent != null ? percent(facts.saved_percent) : 'draft'}</dd>
          </div>
          <div>
            <dt>{facts.mass_g != null ? 'Mass' : 'Part'}</dt>
            <dd>{facts.mass_g != null ? mass(facts.mass_g) : facts.part_volume_mm3 != null ? volume(facts.part_volume_mm3) : '–'}</dd>
          </div>
          <div>
            <dt>Size</dt>
            <dd>{facts.size_mm ? size(facts.size_mm) : '–'}</dd>
          </div>
        </dl>
      </a>
      <Foot project={p} />
    </li>
  )
}

/** A project that cannot be shown, with the ways out of it. */
function Unreadable({ project: p }: { project: ProjectCard }) {
  return (
    <li className="card unreadable">
      <div className="body">
        <h3>{p.name}</h3>
        <p className="bad" role="alert">
          {p.fault}
        </p>
        <p className="muted">Save what is left of it as it is, or delete it.</p>
        <p className="ways">
          <a href={`/api/projects/${p.id}/recipe.json`} download>
            Save its recipe
          </a>
          <a href={`/api/projects/${p.id}/part`} download>
            Save its part
          </a>
          {p.facts && (
            <a
              href={`/project/${p.id}`}
              onClick={(e) => {
                e.preventDefault()
                go(`/project/${p.id}`)
              }}
            >
              Try to open it
            </a>
          )}
        </p>
      </div>
      <Foot project={p} />
    </li>
  )
}

function Foot({ project: p }: { project: ProjectCard }) {
  const queries = useQueryClient()
  // What asks is made when it is needed: of hundreds of projects that would take longer than all else.
  const [asked, setAsked] = useState(false)
  const button = (
    <button className="plainbutton" aria-label={`Delete ${p.name}`} onClick={() => setAsked(true)}>
      Delete
    </button>
  )
  return (
    <div className="foot">
      <span className="muted">{ago(p.updated_ms)}</span>
      {!asked ? (
        button
      ) : (
        <Popconfirm
          open
          onOpenChange={setAsked}
          title={`Delete ${p.name}?`}
          description="The project, its part and its meshes go for good."
          okText="Delete"
          okButtonProps={{ danger: true }}
          cancelText="Keep"
          onConfirm={async () => {
            await api.remove(p.id)
            await queries.invalidateQueries({ queryKey: ['projects'] })
          }}
        >
          {button}
        </Popconfirm>
      )}
    </div>
  )
}
