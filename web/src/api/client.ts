import type { components } from './schema'

type S = components['schemas']
export type Project = S['Project']
export type ProjectCard = S['ProjectCard']
export type Recipe = S['Recipe']
export type RunInfo = S['RunInfo']
export type Foreseen = S['Foreseen']
export type Report = S['Report']
export type Check = S['Check']
export type BodyHealth = S['BodyHealth']
export type Job = S['Job']
export type Stage = S['Stage']
export type Upload = S['Upload']
export type Options = S['Options']
export type ExportReady = S['ExportReady']
export type FileKind = S['FileKind']
export type NewProject = S['NewProject']
export type Zone = S['Zone']
export type Place = S['Place']
export type Role = S['Role']
export type Skin = S['Skin']
export type FaceMark = S['FaceMark']
export type Pocket = S['Pocket']
export type FaceInfo = S['FaceInfo']
export type EdgeLoop = S['LoopInfo']
export type OwnShape = S['OwnShape']
export type BodyFacts = S['BodyFacts']
export type NewFile = S['NewFile']
export type ServerEvent = S['Event']

/** What the server refused, in its words. */
export class Refused extends Error {
  constructor(
    readonly status: number,
    readonly code: string,
    message: string,
    readonly hint: string,
  ) {
    super(message)
  }
}

/** The server did not answer at all. */
export class Unreachable extends Error {}

async function call(path: string, init?: RequestInit): Promise<Response> {
  let response: Response
  try {
    response = await fetch(`/api${path}`, init)
  } catch (e) {
    if (init?.signal?.aborted) throw e
    throw new Unreachable('Ulmix does not answer.')
  }
  if (response.ok) return response
  const body = await response.json().catch(() => null)
  throw new Refused(response.status, body?.code ?? 'unknown', body?.message ?? `The server answered ${response.status}.`, body?.hint ?? 'Try again.')
}

const json = async <T>(path: string, init?: RequestInit): Promise<T> => (await call(path, init)).json()
const send = (method: string, body: unknown, headers: Record<string, string> = {}): RequestInit => ({
  method,
  headers: { 'content-type': 'application/json', ...headers },
  body: JSON.stringify(body),
})
/** Numbers that show a zone's own structure, or the part's. */
const numbers = async (what: 'cells' | 'skeleton', id: string, recipe: Recipe, zone: number | null) => {
  const answer = await call(`/projects/${id}/${what}${zone === null ? '' : `?zone=${zone}`}`, send('POST', recipe))
  return new Float32Array(await answer.arrayBuffer())
}
const based = (revision: number) => ({ 'if-match': `"${revision}"` })

export const api = {
  options: () => json<Options>('/options'),
  projects: () => json<ProjectCard[]>('/projects'),
  project: (id: string) => json<Project>(`/projects/${id}`),
  create: (from: NewProject) => json<Project>('/projects', send('POST', from)),
  remove: (id: string) => call(`/projects/${id}`, { method: 'DELETE' }),
  upload: (file: File) => json<Upload>(`/uploads?name=${encodeURIComponent(file.name)}`, { method: 'POST', body: file }),
  points: (file: File) => json<S['OwnPoints']>(`/points?name=${encodeURIComponent(file.name)}`, { method: 'POST', body: file }),
  cell: (file: File) => json<S['FoundMesh']>(`/cell?name=${encodeURIComponent(file.name)}`, { method: 'POST', body: file }),
  struts: (file: File) => json<S['FoundStruts']>(`/struts?name=${encodeURIComponent(file.name)}`, { method: 'POST', body: file }),
  setRecipe: (id: string, revision: number, recipe: Recipe) => json<Project>(`/projects/${id}/recipe`, send('PUT', recipe, based(revision))),
  addFile: (id: string, revision: number, file: NewFile) => json<Project>(`/projects/${id}/files`, send('POST', file, based(revision))),
  health: (id: string) => json<S['Health']>(`/projects/${id}/health`),
  ghosts: async (id: string) => new Float32Array(await (await call(`/projects/${id}/ghosts`)).arrayBuffer()),
  undo: (id: string, revision: number) => json<Project>(`/projects/${id}/undo`, { method: 'POST', headers: based(revision) }),
  redo: (id: string, revision: number) => json<Project>(`/projects/${id}/redo`, { method: 'POST', headers: based(revision) }),
  setCard: (id: string, png: Blob) => call(`/projects/${id}/card`, { method: 'PUT', headers: { 'content-type': 'image/png' }, body: png }),
  draft: async (id: string, recipe: Recipe, drag: boolean, thickness: boolean, signal: AbortSignal) =>
    (await call(`/projects/${id}/draft`, { ...send('POST', { recipe, drag, thickness }), signal })).arrayBuffer(),
  stopDraft: (id: string) => call(`/projects/${id}/draft`, { method: 'DELETE' }),
  faces: async (id: string, part: Recipe['part']) => (await call(`/projects/${id}/faces`, send('POST', part))).arrayBuffer(),
  loops: (id: string, part: Recipe['part'], face: number) => json<EdgeLoop[]>(`/projects/${id}/faces/${face}/loops`, send('POST', part)),
  moved: async (id: string) => (await call(`/projects/${id}/moved`)).arrayBuffer(),
  /** How far places lie from the border of a zone or body, negative inside. */
  within: async (id: string, of: { of: 'zone' | 'body'; name: string }, places: Float32Array<ArrayBuffer>, signal: AbortSignal) =>
    new Float32Array(await (await call(`/projects/${id}/within?${of.of}=${encodeURIComponent(of.name)}`, { method: 'POST', headers: { 'content-type': 'application/octet-stream' }, body: places, signal })).arrayBuffer()),
  /** What is known of a recipe without a mesh. */
  foresee: async (id: string, recipe: Recipe, signal: AbortSignal) => (await call(`/projects/${id}/foresee`, { ...send('POST', recipe), signal })).json() as Promise<Foreseen>,
  /** How many seed points, three numbers for each, six for each edge of their cells. */
  cells: (id: string, recipe: Recipe, zone: number | null) => numbers('cells', id, recipe, zone),
  skeleton: (id: string, recipe: Recipe, zone: number | null) => numbers('skeleton', id, recipe, zone),
  picture: async (id: string) => (await call(`/projects/${id}/picture`)).arrayBuffer(),
  startFinal: (id: string) => json<Job>(`/projects/${id}/final`, { method: 'POST' }),
  cancel: (job: string) => json<Job>(`/jobs/${job}`, { method: 'DELETE' }),
  export: (id: string, kind: FileKind, file_name: string, body: string | null) =>
    json<ExportReady>(`/projects/${id}/export`, send('POST', { kind, file_name, body })),
}
