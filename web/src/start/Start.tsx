import { useQuery, useQueryClient } from '@tanstack/react-query'
import { App as AntApp, Button } from 'antd'
import { useEffect, useRef, useState } from 'react'
import { api, Refused, type NewProject, type Upload } from '../api/client'
import { useOptions } from '../api/useOptions'
import { FileField } from '../shared/FileField'
import { Header } from '../shared/Header'
import { useLocation } from 'wouter'
import { UnitDialog, type Unit } from '../shared/UnitDialog'
import { Card } from './Card'
import './start.css'

const words = (e: unknown) =>
  e instanceof Refused ? `${e.message} ${e.hint}` : 'Ulmix does not answer. Is it still running?'
const megabytes = (bytes: number) => Math.round(bytes / 1048576)

export function Start() {
  const [, go] = useLocation()
  const { message } = AntApp.useApp()
  const queries = useQueryClient()
  const projects = useQuery({ queryKey: ['projects'], queryFn: api.projects })
  const options = useOptions()
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
      for (const { upload } of beside) {
        p = await api.addFile(p.id, p.revision, { upload, unit, becomes: 'bodies' })
      }
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
        const text = `It has ${megabytes(file.size)} MB; files up to ${megabytes(largest)} MB can be brought in.`
        setRefused({ file: file.name, text: `${text} Reduce the part first.` })
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
            <div>
              <h1>Make a part lighter</h1>
              <p>
                Drop an STL, 3MF, OBJ, PLY or GLB file anywhere on this page, or choose one. Several
                at once become the bodies of one part.
              </p>
            </div>
            <div className="row">
              <Button
                type="primary"
                size="large"
                loading={reading !== null}
                onClick={() => picker.current?.click()}
              >
                {reading ? `Reading ${reading}` : 'Choose a part'}
              </Button>
              <FileField
                picker={picker}
                label="Part file"
                multiple
                onFiles={(files) => void bring(files)}
              />
            </div>
            {refused && (
              <p className="refused" role="alert">
                <strong>{refused.file}</strong> {refused.text}
              </p>
            )}
          </div>
          <div className="from">
            <h2>
              Try a part of the Reedling buoy
              <span className="muted small">Each opens with a first recipe.</span>
            </h2>
            <div className="beginnings">
              {options.data?.reedling.map((p) => (
                <Beginning
                  key={p.part}
                  title={p.title}
                  words={p.words}
                  picture={`/api/reedling/${p.part}/picture`}
                  onBegin={() => void create({ from: 'reedling', part: p.part })}
                />
              ))}
            </div>
          </div>
          <div className="from">
            <h2>
              Begin with a shape
              <span className="muted small">Its dimensions stay editable on the bench.</span>
            </h2>
            <div className="beginnings">
              {options.data?.shapes.map(({ title, shape }, n) => (
                <Beginning
                  key={title}
                  title={title}
                  picture={`/api/shapes/${n}/picture`}
                  onBegin={() => void create({ from: 'shape', shape })}
                />
              ))}
            </div>
          </div>
        </section>
        <div className="row between">
          <h2>Projects</h2>
          {options.data?.can_log_out && (
            <button
              className="plainbutton"
              onClick={() => void api.logOut().then(() => location.assign('/'))}
            >
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
      {first && (
        <UnitDialog
          upload={first}
          beside={beside}
          onClose={() => setUploads([])}
          onUse={(unit) => create({ from: 'upload', upload: first.upload, unit }, beside, unit)}
        />
      )}
    </div>
  )
}

/** A part or a shape to begin with, as a picture of itself. */
function Beginning(p: { title: string; words?: string; picture: string; onBegin: () => void }) {
  return (
    <button className="beginning" title={p.words} onClick={p.onBegin}>
      <img src={p.picture} alt="" width={70} height={50} loading="lazy" />
      <span>{p.title}</span>
    </button>
  )
}
