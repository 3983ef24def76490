import { useQueryClient } from '@tanstack/react-query'
import { Popconfirm } from 'antd'
import { useState } from 'react'
import { api, type ProjectCard } from '../api/client'
import { ago, mass, percent, size, volume } from '../shared/format'
import { Link } from 'wouter'

/** A figure in words, if it is known. */
const told = <T,>(value: T | null | undefined, words: (value: T) => string) =>
  value == null ? null : words(value)

/** A project on the start screen. */
export function Card({ project: p }: { project: ProjectCard }) {
  const [bare, setBare] = useState(false)
  const { facts } = p
  const picture = `/api/projects/${p.id}/card?t=${p.updated_ms}`
  if (p.fault || !facts) return <Unreadable project={p} />
  return (
    <li className="card">
      <Link to={`/project/${p.id}`}>
        <div className="thumb">
          {bare ? (
            <span className="muted">No picture yet</span>
          ) : (
            <img src={picture} alt="" loading="lazy" onError={() => setBare(true)} />
          )}
        </div>
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
            <dd>{told(facts.saved_percent, percent) ?? 'draft'}</dd>
          </div>
          <div>
            <dt>{facts.mass_g != null ? 'Mass' : 'Part'}</dt>
            <dd>{told(facts.mass_g, mass) ?? told(facts.part_volume_mm3, volume) ?? '–'}</dd>
          </div>
          <div>
            <dt>Size</dt>
            <dd>{told(facts.size_mm, size) ?? '–'}</dd>
          </div>
        </dl>
      </Link>
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
          {p.facts && <Link to={`/project/${p.id}`}>Try to open it</Link>}
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
