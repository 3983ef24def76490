import {
  api,
  Refused,
  type Estimate,
  type Grading,
  type Recipe,
  type RunInfo,
} from '../../api/client'
import { filledAt } from '../recipe/zoneRules'
import { fieldOf } from '../view/FieldPaint'
import { extras, get, reportProblem, set, type ColourBy, type ViewMode } from './store'

/** Shows a picture with what the server says of it. */
export function show(glb: ArrayBuffer) {
  set(({ picture }) => ({
    picture: { glb, info: extras<RunInfo>(glb), n: (picture?.n ?? 0) + 1 },
    behind: false,
    problem: null,
  }))
}

/** What is looked at in place of the result, if anything: then only what leads up to it is worked out. */
const lookedAtInstead = () => {
  const { view } = get()
  return view === 'cells' || view === 'skeleton' ? view : null
}

/** What is known of a recipe changes; its picture stays. */
function updateRunInfo(change: (info: RunInfo) => Partial<RunInfo>) {
  set(({ picture }) => ({
    picture: picture && { ...picture, info: { ...picture.info, ...change(picture.info) } },
  }))
}

/** Shows the numbers of a recipe beside a picture that waits. */
function showEstimate({ report, ...known }: Estimate) {
  updateRunInfo((info) => ({ ...known, report: { ...info.report, ...report, notes: [] } }))
  set({ behind: true, problem: null })
}

/**
 * One draft at a time. While a value moves, the newest waits for the one under way, so that pictures
 * keep coming; a value at rest takes over at once, and the server stops the older run.
 */
export const drafts = (() => {
  interface Run {
    drag: boolean
    since: number
    stop: AbortController
  }
  const begun = (drag: boolean): Run => ({
    drag,
    since: performance.now(),
    stop: new AbortController(),
  })
  let running: Run | null = null
  let wanted: { drag: boolean } | null = null

  /** Once the picture is there: what blocks of the final mesh tell of its cost. */
  const fetchCost = async (run: Run) => {
    const { project, recipe, picture } = get()
    if (!project || !recipe || !picture || picture.info.quality === 'final') return
    set({ working: false, relaxing: null, drawing: null })
    const cost = await api.cost(project.id, recipe, run.stop.signal)
    if (running !== run || get().project?.id !== project.id) return
    updateRunInfo(() => ({ cost }))
  }

  const next = async () => {
    const { project, recipe, colourBy } = get()
    if (!wanted || !project || !recipe) return
    const run = begun(wanted.drag)
    wanted = null
    running = run
    set({
      working: true,
      relaxing: null,
      drawing: { stage: null, since: run.since },
      stopped: false,
    })
    try {
      const lines = get().picture && lookedAtInstead()
      if (lines) {
        // One after the other: what is worked out for the first is there for the second.
        const estimate = await api.estimate(project.id, recipe, run.stop.signal)
        if (running === run) await fetchLines(lines)
        if (running === run && get().project?.id === project.id) showEstimate(estimate)
      } else {
        const coloured = colourBy === 'thickness' && !run.drag
        const glb = await api.draft(project.id, recipe, run.drag, coloured, run.stop.signal)
        if (running === run && get().project?.id === project.id) show(glb)
      }
      if (running === run && !run.drag) await fetchCost(run)
    } catch (e) {
      const superseded = run.stop.signal.aborted || (e instanceof Refused && e.code === 'cancelled')
      if (!superseded && running === run) reportProblem(e)
    }
    if (running === run) {
      running = null
      set({ working: wanted !== null, relaxing: null, drawing: null })
      void next()
    }
  }

  return {
    ask(drag: boolean) {
      wanted = { drag }
      const stale = running && (!drag || !running.drag || performance.now() - running.since > 600)
      if (running && stale) {
        running.stop.abort()
        running = null
      }
      if (!running) void next()
    },
    /** A picture is there already. */
    async rest() {
      if (running) return
      const run = begun(false)
      running = run
      // A figure from laws stays where there is none from blocks.
      await fetchCost(run).catch(() => null)
      if (running === run) running = null
      if (wanted) void next()
    },
    stop() {
      wanted = null
      running?.stop.abort()
      running = null
      set({ working: false, relaxing: null, drawing: null })
    },
  }
})()

/** Shows a recipe while a value moves; nothing is saved. */
export function preview(change: (r: Recipe) => Recipe) {
  const { recipe } = get()
  if (!recipe) return
  set({ recipe: change(recipe), refusal: null })
  drafts.ask(true)
}

/** The stored final of this recipe, or a draft. */
export function redraw() {
  const { project } = get()
  if (project?.finished) {
    drafts.stop()
    const lines = lookedAtInstead()
    if (lines) void fetchLines(lines)
    void api
      .picture(project.id)
      .then((glb) => get().project?.id === project.id && show(glb))
      .catch(reportProblem)
  } else {
    drafts.ask(false)
  }
}

/** Stops the draft under way; the picture stays as it was. */
export async function stopDrawing() {
  const { project } = get()
  drafts.stop()
  set({ stopped: true })
  if (!project) return
  try {
    await api.stopDraft(project.id)
  } catch (e) {
    reportProblem(e)
  }
}

/** Draws what was stopped. */
export const drawAgain = () => drafts.ask(false)

export function colour(by: ColourBy) {
  set({ colourBy: by })
  if (by === 'thickness' && !get().picture?.info.has_thickness) drafts.ask(false)
}

/** Another view; a picture that has waited for it is drawn. */
export function lookAt(view: ViewMode) {
  set({ view })
  if (get().behind && !lookedAtInstead()) redraw()
}

/** Fetches what a grading gives; the newest question counts. */
let painting = new AbortController()
export async function fetchField(grading: Grading | null) {
  painting.abort()
  const own = (painting = new AbortController())
  const { project, recipe, filled } = get()
  if (!grading || !project || !recipe) return set({ field: null })
  const of = { grading: grading.id, zone: filledAt(recipe, filled) }
  try {
    const numbers = await api.graded(project.id, recipe, of, own.signal)
    if (painting === own) set({ field: fieldOf(numbers) })
  } catch (e) {
    // What is wrong with a value is told where it is drawn or saved.
    if (painting === own && !(e instanceof Refused)) reportProblem(e)
  }
}

/** Fetches what the view shows in place of the result, of the filling that is worked on; the newest question counts. */
let asked = 0
export async function fetchLines(view: 'cells' | 'skeleton') {
  const { project, recipe, filled } = get()
  if (!project || !recipe) return
  const own = ++asked
  try {
    const lines = await api[view](project.id, recipe, filledAt(recipe, filled))
    if (own === asked) set({ [view]: lines })
  } catch (e) {
    if (own === asked) reportProblem(e)
  }
}
