import { Button, Input, Segmented, Select } from 'antd'
import { useState } from 'react'
import { api, Refused, type ExportReady, type FileKind } from '../../api/client'
import { count } from '../../shared/format'
import { startFinal, useBench, underWay } from '../state'
import { CheckList } from './Checks'

export function HandoffSentence() {
  const final = useBench((b) => b.project?.finished)
  return final ? <>3MF or STL, read again and checked</> : <>Needs the final mesh</>
}

const megabytes = (n: number) => `${(n / 1e6).toFixed(n < 1e7 ? 2 : 1)} MB`

export function Handoff() {
  const project = useBench((b) => b.project)
  const recipe = useBench((b) => b.recipe)
  const job = useBench((b) => b.job)
  const [kind, setKind] = useState<FileKind>('3mf')
  const [name, setName] = useState<string | null>(null)
  const [chosen, setChosen] = useState<string | null>(null)
  const [busy, setBusy] = useState(false)
  const [ready, setReady] = useState<{ file: ExportReady; revision: number } | null>(null)
  const [refused, setRefused] = useState<Refused | null>(null)
  if (!project || !recipe) return null
  const making = underWay(job)
  const shown = name ?? recipe.name
  // Lattice and solids apart, and bodies left as they are: an STL file takes one of them.
  const apart = project.finished?.report.apart.map((b) => b.name) ?? []
  const beside = project.part.list.filter((b) => b.role === 'alongside').map((b) => b.name)
  const bodies = [...(apart.length > 0 ? apart : beside.length > 0 ? [recipe.name] : []), ...beside]
  const whole = bodies.length < 2 || kind === '3mf'
  const body = bodies.find((b) => b === chosen) ?? (whole ? null : (bodies[0] ?? null))

  const write = async () => {
    setBusy(true)
    setRefused(null)
    setReady(null)
    try {
      setReady({
        file: await api.export(
          project.id,
          kind,
          body ? `${shown} ${body.toLowerCase()}` : shown,
          body,
        ),
        revision: project.revision,
      })
    } catch (e) {
      setRefused(
        e instanceof Refused
          ? e
          : new Refused(0, 'unreachable', 'Ulmix does not answer.', 'Try again when it is back.'),
      )
    }
    setBusy(false)
  }

  const current = ready && ready.revision === project.revision ? ready.file : null
  return (
    <>
      <Input
        aria-label="File name"
        value={shown}
        addonAfter={`.${kind}`}
        onChange={(e) => setName(e.target.value)}
      />
      <Segmented<FileKind>
        block
        aria-label="Format"
        value={kind}
        onChange={(k) => {
          setKind(k)
          setReady(null)
        }}
        options={[
          { value: '3mf', label: '3MF, in millimetres' },
          { value: 'stl', label: 'STL, binary' },
        ]}
      />
      {bodies.length > 1 && (
        <Select
          aria-label="Bodies to write"
          value={body ?? ''}
          onChange={(v) => {
            setChosen(v || null)
            setReady(null)
          }}
          options={[
            ...(kind === '3mf'
              ? [{ value: '', label: `All ${bodies.length} bodies, each an object` }]
              : []),
            ...bodies.map((b) => ({ value: b, label: `${b} alone` })),
          ]}
        />
      )}
      {project.finished ? (
        <Button type="primary" block loading={busy} onClick={() => void write()}>
          Write and check the file
        </Button>
      ) : (
        <Button type="primary" block loading={making} onClick={() => void startFinal()}>
          Make the final mesh first
        </Button>
      )}
      {refused && (
        <p className="remark bad">
          {refused.message} {refused.hint}
        </p>
      )}
      {current && (
        <div className="ready">
          <p>
            <b>{current.file_name}</b>{' '}
            <span className="figure muted">{megabytes(current.bytes)}</span>
            <br />
            Read again: {count(current.triangles)} triangles, {current.summary.words}.
          </p>
          {current.summary.verdict !== 'pass' && (
            <CheckList checks={current.checks.filter((c) => c.verdict !== 'pass')} withHint />
          )}
          <Button block href={current.url} download={current.file_name}>
            Save {current.file_name}
          </Button>
        </div>
      )}
      <a className="textlink" href={`/api/projects/${project.id}/recipe.json`}>
        Save the recipe
      </a>
      <p className="muted small">
        The recipe and the part give the same file again, without a screen: ulmix build.
      </p>
    </>
  )
}
