import type { ReactNode } from 'react'
import type { Stage } from '../../api/client'
import { seconds } from '../../shared/format'
import { useBench, type Step, underWay } from '../state'
import { Checks, checksSentence } from './Checks'
import { Handoff, handoffSentence } from './Handoff'
import { MeshStep, meshSentence } from './MeshStep'
import { PartStep, partSentence } from './PartStep'
import { Structure, StructureSentence } from './Structure'
import { Thicken, ThickenSentence } from './Thicken'
import { Zones, zonesSentence } from './Zones'
import './recipe.css'

/** Stages of a run that belong to a step: their times are shown there. */
const stagesOf: Partial<Record<Step, Stage[]>> = {
  zones: ['zones'],
  structure: ['skeleton', 'lattice'],
  thicken: ['thickness'],
  mesh: ['surface', 'finish'],
  checks: ['report'],
}

type Mark = 'done' | 'look' | 'todo' | 'busy'

export function Steps() {
  const { project, recipe, picture, job, working } = useBench()
  const anyOpen = useBench((s) => s.step !== null)
  if (!project || !recipe) return <nav className="steps" aria-label="Recipe" />
  const info = picture?.info
  const failed = info?.report.checks?.filter((c) => c.verdict !== 'pass').length ?? 0
  const final = project.finished ?? null
  // Those about the grid belong to the step Mesh.
  const notes =
    info?.report.notes.filter((n) => !info.cost.notes.some((known) => known.text === n.text)) ?? []
  const making = underWay(job)

  const list: {
    step: Step
    title: string
    sentence: ReactNode
    body: () => ReactNode
    mark: Mark
  }[] = [
    {
      step: 'part',
      title: 'Part',
      sentence: partSentence(project),
      body: () => <PartStep />,
      mark: project.part.defects.length > 0 ? 'look' : 'done',
    },
    {
      step: 'zones',
      title: 'Zones',
      sentence: zonesSentence(recipe),
      body: () => <Zones />,
      mark: 'done',
    },
    {
      step: 'structure',
      title: 'Structure',
      sentence: <StructureSentence recipe={recipe} />,
      body: () => <Structure />,
      mark: working ? 'busy' : 'done',
    },
    {
      step: 'thicken',
      title: 'Thicken',
      sentence: <ThickenSentence recipe={recipe} info={info} />,
      body: () => <Thicken />,
      mark: working
        ? 'busy'
        : notes.length + (info?.report.cautions.length ?? 0) > 0
          ? 'look'
          : 'done',
    },
    {
      step: 'mesh',
      title: 'Mesh',
      sentence: meshSentence(project, info, job),
      body: () => <MeshStep />,
      mark: making ? 'busy' : final ? (final.cost.notes.length > 0 ? 'look' : 'done') : 'todo',
    },
    {
      step: 'checks',
      title: 'Checks',
      sentence: checksSentence(final),
      body: () => <Checks />,
      mark: !final ? 'todo' : failed > 0 ? 'look' : 'done',
    },
    {
      step: 'handoff',
      title: 'Hand-off',
      sentence: handoffSentence(final),
      body: () => <Handoff />,
      mark: final ? 'done' : 'todo',
    },
  ]
  return (
    <nav className={anyOpen ? 'steps narrow' : 'steps'} aria-label="Recipe">
      {list.map((s, i) => (
        <StepRow key={s.step} number={i + 1} {...s} />
      ))}
    </nav>
  )
}

/** A sentence that is cut off is told whole where the pointer rests. */
function tellWhole(e: { currentTarget: HTMLElement }) {
  const line = e.currentTarget
  line.title = line.scrollWidth > line.clientWidth ? line.innerText : ''
}

function StepRow(p: {
  number: number
  step: Step
  title: string
  sentence: ReactNode
  body: () => ReactNode
  mark: Mark
}) {
  const open = useBench((s) => s.step === p.step)
  const stages = useBench((s) => s.picture?.info.stages)
  const own = stages?.filter((s) => stagesOf[p.step]?.includes(s.stage)) ?? []
  const time = own.reduce((sum, s) => sum + s.seconds, 0)
  const cached = own.length > 0 && own.every((s) => s.cached)
  return (
    <section className={open ? 'step open' : 'step'}>
      <button
        className="title"
        aria-expanded={open}
        onClick={() =>
          useBench.setState({ step: open ? null : p.step, handle: null, picking: null })
        }
      >
        <span
          className={`number ${open ? 'active' : p.mark}`}
          aria-label={
            { done: 'done', look: 'needs a look', todo: 'not made yet', busy: 'working' }[p.mark]
          }
        >
          {p.mark === 'look' ? '!' : p.number}
        </span>
        <h2>{p.title}</h2>
        {own.length > 0 && (
          <span
            className="time figure"
            title={cached ? 'Kept from an earlier run' : 'Time of the last run'}
          >
            {cached ? 'kept' : seconds(time)}
          </span>
        )}
        {!open && (
          <span className="sentence" onMouseEnter={tellWhole}>
            {p.sentence}
          </span>
        )}
      </button>
      {open && <div className="body">{p.body()}</div>}
    </section>
  )
}
