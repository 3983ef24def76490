import { useId, type ComponentType } from 'react'
import type { Stage } from '../../api/client'
import { seconds } from '../../shared/format'
import { HelpButton } from '../../guide/Help'
import { useBench, underWay, type BenchState, type Step } from '../state'
import { Checks, ChecksSentence } from './Checks'
import { Grading, GradingSentence } from './Grading'
import { Handoff, HandoffSentence } from './Handoff'
import { MeshSentence, MeshStep } from './MeshStep'
import { PartSentence, PartStep } from './PartStep'
import { Structure, StructureSentence } from './Structure'
import { Thicken, ThickenSentence } from './Thicken'
import { Zones, ZonesSentence } from './Zones'
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

interface StepOf {
  step: Step
  title: string
  /** What is set, in one line. */
  Sentence: ComponentType
  Body: ComponentType
  /** How far the step is. */
  mark: (b: BenchState) => Mark
}

const final = (b: BenchState) => b.project?.finished ?? null

/** Notes of the result but for those about the grid, which belong to the step Mesh. */
const notes = ({ picture }: BenchState) =>
  picture?.info.report.notes.filter(
    (n) => !picture.info.cost.notes.some((known) => known.text === n.text),
  ) ?? []

const steps: StepOf[] = [
  {
    step: 'part',
    title: 'Part',
    Sentence: PartSentence,
    Body: PartStep,
    mark: (b) => ((b.project?.part.defects.length ?? 0) > 0 ? 'look' : 'done'),
  },
  { step: 'zones', title: 'Zones', Sentence: ZonesSentence, Body: Zones, mark: () => 'done' },
  {
    step: 'structure',
    title: 'Structure',
    Sentence: StructureSentence,
    Body: Structure,
    mark: (b) => (b.working ? 'busy' : 'done'),
  },
  {
    step: 'grading',
    title: 'Grading',
    Sentence: GradingSentence,
    Body: Grading,
    mark: () => 'done',
  },
  {
    step: 'thicken',
    title: 'Thicken',
    Sentence: ThickenSentence,
    Body: Thicken,
    mark: (b) => {
      const told = notes(b).length + (b.picture?.info.report.cautions.length ?? 0)
      return b.working ? 'busy' : told > 0 ? 'look' : 'done'
    },
  },
  {
    step: 'mesh',
    title: 'Mesh',
    Sentence: MeshSentence,
    Body: MeshStep,
    mark: (b) => {
      const made = final(b)
      if (underWay(b.job)) return 'busy'
      return !made ? 'todo' : made.cost.notes.length > 0 ? 'look' : 'done'
    },
  },
  {
    step: 'checks',
    title: 'Checks',
    Sentence: ChecksSentence,
    Body: Checks,
    mark: (b) => {
      if (!final(b)) return 'todo'
      return b.picture?.info.report.checks?.some((c) => c.verdict !== 'pass') ? 'look' : 'done'
    },
  },
  {
    step: 'handoff',
    title: 'Hand-off',
    Sentence: HandoffSentence,
    Body: Handoff,
    mark: (b) => (final(b) ? 'done' : 'todo'),
  },
]

const markNames = {
  done: 'done',
  look: 'needs a look',
  todo: 'not made yet',
  busy: 'working',
} satisfies Record<Mark, string>

/** The recipe as steps in the order of the work. */
export function Steps() {
  const ready = useBench((b) => b.project !== null && b.recipe !== null)
  const anyOpen = useBench((b) => b.step !== null)
  return (
    <nav className={anyOpen && ready ? 'steps narrow' : 'steps'} aria-label="Recipe">
      {ready && steps.map((s, i) => <StepRow key={s.step} number={i + 1} {...s} />)}
    </nav>
  )
}

/** A sentence that is cut off is told whole where the pointer rests. */
function tellWhole(e: { currentTarget: HTMLElement }) {
  const line = e.currentTarget
  line.title = line.scrollWidth > line.clientWidth ? line.innerText : ''
}

/** Opens a step, or closes it. */
function toggle(step: Step) {
  const open = useBench.getState().step === step
  useBench.setState({ step: open ? null : step, handle: null, picking: null })
}

function StepRow({ number, step, title, Sentence, Body, mark }: StepOf & { number: number }) {
  const open = useBench((b) => b.step === step)
  const state = useBench(mark)
  const id = useId()
  return (
    <section className={open ? 'step open' : 'step'}>
      <div className="titleline">
        <button
          className="title"
          aria-expanded={open}
          aria-controls={open ? id : undefined}
          onClick={() => toggle(step)}
        >
          <span className={`number ${open ? 'active' : state}`} aria-hidden>
            {state === 'look' ? '!' : number}
          </span>
          <h2>{title}</h2>
          <span className="unseen">{markNames[state]}</span>
          <StepTime step={step} />
          {!open && (
            <span className="sentence" onMouseEnter={tellWhole}>
              <Sentence />
            </span>
          )}
        </button>
        {open && <HelpButton step={step} title={title} />}
      </div>
      {open && (
        <div className="body" id={id}>
          <Body />
        </div>
      )}
    </section>
  )
}

/** How long the stages of a step took in the last run. */
function StepTime({ step }: { step: Step }) {
  const stages = useBench((b) => b.picture?.info.stages)
  const own = stages?.filter((s) => stagesOf[step]?.includes(s.stage)) ?? []
  if (own.length === 0) return null
  const cached = own.every((s) => s.cached)
  return (
    <span
      className="time figure"
      title={cached ? 'Kept from an earlier run' : 'Time of the last run'}
    >
      {cached ? 'kept' : seconds(own.reduce((sum, s) => sum + s.seconds, 0))}
    </span>
  )
}
