import { api, Refused } from '../../api/client'
import { drafts, show } from './drawing'
import { forgetChanges, refresh } from './saving'
import { blank, get, reportProblem, set, type Cut } from './store'

/** Opens a project: its stored picture, or a draft. */
export async function open(id: string) {
  set({ ...blank })
  forgetChanges()
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
