import {
  api,
  Refused,
  Unreachable,
  type NewFile,
  type Project,
  type Recipe,
} from '../../api/client'
import { drafts, redraw } from './drawing'
import { get, reportProblem, set, useBench, type Problem } from './store'

/** This page holds a change that the server has not taken yet. */
let unsaved = false

/** A page that opens a project has no changes of its own. */
export function forgetChanges() {
  unsaved = false
}

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

useBench.subscribe((now, before) => {
  if (now.offline && !before.offline) void retry()
})

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

/** Takes over what the server holds, unless this page is ahead of it. */
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
