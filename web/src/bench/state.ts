import { create } from 'zustand'
import {
  api,
  Refused,
  Unreachable,
  type FaceInfo,
  type Estimate,
  type Job,
  type NewFile,
  type Project,
  type Recipe,
  type RunInfo,
  type Stage,
} from '../api/client'
import { standOn } from './recipe/standRules'
import { drainHole, filledAt, withZones } from './recipe/zoneRules'
import type { FollowedFaces } from './recipe/followedRules'
import type { PickTool } from './view/FacePicker'
import type { StrutColour } from './view/skeleton'

export type Step = 'part' | 'zones' | 'structure' | 'thicken' | 'mesh' | 'checks' | 'handoff'
/** What a click on the part picks: faces for what is chosen, the place of a drain hole, or the face to stand on. */
export type Picking = 'faces' | 'drain' | 'down'
export type ColourBy = 'zone' | 'thickness'
export type Axis = 0 | 1 | 2
export type ViewMode = 'whole' | 'cut' | 'cells' | 'skeleton'
export type Handle = 'shift' | 'turn' | null

export interface Cut {
  axis: Axis
  at: number
  /** Keeps the far side instead. */
  flipped: boolean
}

export interface Picture {
  glb: ArrayBuffer
  info: RunInfo
  /** Counts pictures, so that the page can say which one is painted. */
  n: number
}

/** A zone of the recipe by its number, or a body of the part by its name. */
export type Alone = { of: 'zone'; id: number } | { of: 'body'; name: string }

/** What has faces or a place: by its number, or of the rows of cells. */
export interface Chosen {
  of: 'zone' | 'skin' | 'pocket' | FollowedFaces
  index: number
}

/** The part with its faces, for picking. */
export interface PartFaces {
  glb: ArrayBuffer
  list: FaceInfo[]
  /** The part step it was made of. */
  key: string
}

/** Distances of the part's surface from where it was. mm. */
export interface Moved {
  glb: ArrayBuffer
  greatest: number
  /** The part step it was made of. */
  key: string
}

/** Why something could not be done, and what to do. */
export interface Problem {
  message: string
  hint: string
}

export interface BenchState {
  project: Project | null
  /** The recipe on screen: ahead of the saved one while a value moves. */
  recipe: Recipe | null
  picture: Picture | null
  /** The picture is of an earlier recipe: it waits while cells or struts are looked at. */
  behind: boolean
  working: boolean
  saving: boolean
  offline: boolean
  problem: Problem | null
  /** A change that the server did not take; it is told until the next one. */
  refusal: Problem | null
  job: Job | null
  step: Step | null
  view: ViewMode
  cut: Cut
  colourBy: ColourBy
  handle: Handle
  chosen: Chosen | null
  /** The zone whose own structure is worked on; none for the part's. */
  filled: number | null
  picking: Picking | null
  pickTool: PickTool
  /** The control point of a sheet that is worked on. */
  control: number
  /** The part with how far mending moved it, when that is looked at. */
  moved: Moved | null
  /** Numbers of zones whose outline is hidden, and of those that cannot be changed. */
  hidden: number[]
  locked: number[]
  /** The zone or body that is shown alone. */
  alone: Alone | null
  faces: PartFaces | null
  /** Struts of the saved recipe as the server lists them, when they are looked at. */
  skeleton: Float32Array | null
  strutColour: StrutColour
  /** Seed points and their cells, when they are looked at. */
  cells: Float32Array | null
  /** How far seed points of the draft under way are relaxed. */
  relaxing: { rounds: number; of: number } | null
  /** What the draft under way is at, and when it began; no stage: the part is made ready. */
  drawing: { stage: Stage | null; since: number } | null
  /** The draft was stopped: the picture is of an earlier recipe. */
  stopped: boolean
  /** A place to fly to, from a check. */
  look: [number, number, number] | null
}

const blank: BenchState = {
  project: null,
  recipe: null,
  picture: null,
  behind: false,
  working: false,
  saving: false,
  offline: false,
  problem: null,
  refusal: null,
  job: null,
  step: 'structure',
  view: 'whole',
  cut: { axis: 1, at: 0, flipped: true },
  colourBy: 'zone',
  handle: null,
  chosen: null,
  filled: null,
  picking: null,
  pickTool: 'click',
  control: 0,
  moved: null,
  hidden: [],
  locked: [],
  alone: null,
  faces: null,
  skeleton: null,
  strutColour: 'length',
  cells: null,
  relaxing: null,
  drawing: null,
  stopped: false,
  look: null,
}

export const useBench = create<BenchState>(() => blank)
const { getState: get, setState: set } = useBench

export const underWay = (job: Job | null) => job?.state === 'queued' || job?.state === 'running'

/** What the server says of a picture rides in it. */
function extras<T>(glb: ArrayBuffer): T {
  const view = new DataView(glb)
  const text = new TextDecoder().decode(new Uint8Array(glb, 20, view.getUint32(12, true)))
  return JSON.parse(text).asset.extras
}

function show(glb: ArrayBuffer) {
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

function reportProblem(e: unknown) {
  if (e instanceof Unreachable) {
    set({ offline: true })
    void retry()
  } else if (e instanceof Refused) {
    set({ problem: { message: e.message, hint: e.hint } })
  } else {
    throw e
  }
}

/** This page holds a change that the server has not taken yet. */
let unsaved = false

/** Asks until the server answers again, then saves what is not saved yet. */
let asking = false
async function retry() {
  if (asking) return
  asking = true
  while (get().offline) {
    await new Promise((done) => setTimeout(done, 1500))
    const { project } = get()
    if (!project) break
    try {
      const fresh = await api.project(project.id)
      set({ offline: false, project: fresh, job: fresh.job ?? null })
      const mine = get().recipe
      // A page without changes of its own takes over what others have saved meanwhile.
      if (unsaved && mine) commit(mine)
      else {
        set({ recipe: fresh.recipe })
        redraw()
      }
    } catch (e) {
      if (!(e instanceof Unreachable)) {
        set({ offline: false })
        reportProblem(e)
      }
    }
  }
  asking = false
}

export async function open(id: string) {
  set({ ...blank })
  unsaved = false
  try {
    const project = await api.project(id)
    const { min_mm, size_mm } = project.part
    const cut: Cut = { axis: 1, at: (min_mm[1] ?? 0) + (size_mm[1] ?? 0) / 2, flipped: true }
    set({ project, recipe: project.recipe, job: project.job ?? null, cut })
    try {
      show(await api.picture(id))
      void drafts.rest()
    } catch (e) {
      if (!(e instanceof Refused && e.status === 404)) throw e
      drafts.ask(false)
    }
  } catch (e) {
    reportProblem(e)
  }
}

/**
 * One draft at a time. While a value moves, the newest waits for the one under way, so that pictures
 * keep coming; a value at rest takes over at once, and the server stops the older run.
 */
const drafts = (() => {
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

/** Saves a recipe as a step of the history and draws it. Answers with why the server did not take it, if so. */
export async function edit(change: (r: Recipe) => Recipe): Promise<Problem | null> {
  const { recipe } = get()
  return recipe ? commit(change(recipe)) : null
}

/** Changes go out one after the other; each is based on the one before. */
let line: Promise<unknown> = Promise.resolve()
function inLine<T>(work: () => Promise<T | null>): Promise<T | null> {
  const done = line.then(work).catch((e: unknown) => {
    reportProblem(e)
    return null
  })
  line = done
  return done
}

function commit(recipe: Recipe): Promise<Problem | null> {
  unsaved = true
  set({ recipe, saving: true, refusal: null })
  return inLine(async () => {
    const { project } = get()
    if (!project) return null
    try {
      const saved = await api.setRecipe(project.id, project.revision, recipe)
      adoptSaved(saved, recipe)
      return null
    } catch (e) {
      if (!(e instanceof Refused)) throw e
      await reloadSaved()
      return reportRefusal(e)
    } finally {
      set({ saving: false })
    }
  })
}

/** Tells a refused change until the next one: pictures that arrive meanwhile do not take it away. */
function reportRefusal({ message, hint }: Refused): Problem {
  const refusal = { message, hint }
  set({ refusal })
  return refusal
}

/** What the server holds counts again. */
async function reloadSaved() {
  const { project } = get()
  if (!project) return
  const fresh = await api.project(project.id)
  unsaved = false
  set({ project: fresh, recipe: fresh.recipe, job: fresh.job ?? null })
  redraw()
}

/** `sent`: the recipe this answers; a newer one on screen stays. */
function adoptSaved(project: Project, sent?: Recipe) {
  const newer = sent && get().recipe !== sent
  if (!newer) unsaved = false
  set({ project, ...(newer ? {} : { recipe: project.recipe }) })
  if (!newer) redraw()
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

/** A change that the server makes to the recipe. */
const changeOnServer = (change: (id: string, revision: number) => Promise<Project>) =>
  inLine(async () => {
    const { project } = get()
    set({ refusal: null })
    if (!project) return null
    try {
      adoptSaved(await change(project.id, project.revision))
      return null
    } catch (e) {
      if (!(e instanceof Refused)) throw e
      if (e.status === 412) await reloadSaved()
      return reportRefusal(e)
    }
  })
export const undo = () => get().project?.can_undo && void changeOnServer(api.undo)
export const redo = () => get().project?.can_redo && void changeOnServer(api.redo)
/** Takes in a file that was brought in. */
export const addFile = (file: NewFile) =>
  changeOnServer((id, revision) => api.addFile(id, revision, file))

export async function startFinal() {
  const { project } = get()
  if (!project) return
  drafts.stop()
  // What was typed last is saved first.
  await line
  try {
    set({ job: await api.startFinal(project.id), problem: null })
  } catch (e) {
    reportProblem(e)
  }
}

export async function cancelFinal() {
  const { job } = get()
  if (!job) return
  try {
    await api.cancel(job.id)
  } catch (e) {
    reportProblem(e)
  }
}

export async function refresh() {
  const { project } = get()
  if (!project) return
  try {
    const fresh = await api.project(project.id)
    const foreign = fresh.revision !== project.revision && !get().saving && !unsaved
    set({ project: fresh, job: fresh.job ?? null, ...(foreign ? { recipe: fresh.recipe } : {}) })
    if (foreign || (fresh.finished && get().picture?.info.quality !== 'final')) redraw()
  } catch (e) {
    reportProblem(e)
  }
}

/** Listens to what happens to the project elsewhere. Returns how to stop. */
export function listen(id: string): () => void {
  const source = new EventSource(`/api/projects/${id}/events`)
  source.onmessage = (message) => {
    const event = JSON.parse(message.data)
    if (event.event === 'job') {
      set({ job: event.job })
      if (event.job.state === 'done') void refresh()
      if (event.job.state === 'failed') set({ problem: event.job.problem })
    } else if (event.event === 'drawing') {
      set(({ drawing }) => ({ drawing: drawing && { ...drawing, stage: event.stage } }))
    } else if (event.event === 'relaxing') {
      if (get().working) set({ relaxing: { rounds: event.rounds, of: event.of } })
    } else if (event.revision !== get().project?.revision && !get().saving) {
      void refresh()
    }
  }
  // What happened before the line was open, or while it was down, is asked for.
  source.onopen = () => void refresh()
  source.addEventListener('missed', () => void refresh())
  return () => source.close()
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

/** Shows how far mending moved the part, or the result again. */
export async function showMoved(on: boolean) {
  const { project } = get()
  if (!on || !project) return set({ moved: null })
  try {
    const glb = await api.moved(project.id)
    set({
      moved: {
        glb,
        key: JSON.stringify(project.recipe.part),
        ...extras<{ greatest: number }>(glb),
      },
    })
  } catch (e) {
    reportProblem(e)
  }
}

/** Stands the part on a face that looks along `outward`. */
export function stand(outward: readonly number[]) {
  void pick(null)
  edit(standOn(outward))
}

/** A drain hole at a place of the part's surface. */
export function drill(place: readonly number[], outward: readonly number[]) {
  const { project, recipe } = get()
  void pick(null)
  if (!project || !recipe) return
  edit(withZones((z) => ({ ...z, list: [drainHole(project, recipe, place, outward), ...z.list] })))
  set({ chosen: { of: 'zone', index: 0 }, filled: null })
}

/** Begins or ends picking on the part. */
export async function pick(picking: Picking | null) {
  set({ picking })
  const { project, recipe, faces } = get()
  const key = JSON.stringify(recipe?.part)
  if (!picking || !project || !recipe || faces?.key === key) return
  try {
    const glb = await api.faces(project.id, recipe.part)
    set({ faces: { glb, list: extras<{ faces: FaceInfo[] }>(glb).faces, key } })
  } catch (e) {
    set({ picking: null })
    reportProblem(e)
  }
}
