import type { components } from './schema'

type S = components['schemas']
export type Project = S['Project']
export type ProjectCard = S['ProjectCard']
export type Recipe = S['Recipe']
export type RunInfo = S['RunInfo']
export type Estimate = S['Estimate']
export type Cost = S['Cost']
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
export type Grading = S['Grading']
export type GradingSource = S['GradingSource']
export type SizeFit = S['SizeFit']
export type Source = S['Source']
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

/** Tells this page from others: what it asks for makes only its own older wishes useless. */
const tab = Math.random().toString(36).slice(2)

async function call(path: string, init?: RequestInit): Promise<Response> {
  let response: Response
  try {
    response = await fetch(`/api${path}`, {
      ...init,
      headers: { ...init?.headers, 'x-ulmix-tab': tab },
    })
  } catch (e) {
    if (init?.signal?.aborted) throw e
    throw new Unreachable('Ulmix does not answer.')
  }
  if (response.ok) return response
  const body = await response.json().catch(() => null)
  const message = body?.message ?? `The server answered ${response.status}.`
  throw new Refused(response.status, body?.code ?? 'unknown', message, body?.hint ?? 'Try again.')
}

const json = async <T>(path: string, init?: RequestInit): Promise<T> =>
  (await call(path, init)).json()
const bytes = async (path: string, init?: RequestInit) => (await call(path, init)).arrayBuffer()
const send = (
  method: string,
  body: unknown,
  headers: Record<string, string> = {},
): RequestInit => ({
  method,
  headers: { 'content-type': 'application/json', ...headers },
  body: JSON.stringify(body),
})
/** Asks for a zone's own filling, by its number in the list, or the part's. */
const ofZone = (zone: number | null) => (zone === null ? '' : `?zone=${zone}`)
/** Numbers that show a zone's own structure, or the part's. */
const numbers = async (
  what: 'cells' | 'skeleton',
  id: string,
  recipe: Recipe,
  zone: number | null,
) => {
  const path = `/projects/${id}/${what}${ofZone(zone)}`
  return new Float32Array(await bytes(path, send('POST', recipe)))
}
/** What the server reads from a file. */
const fromFile = <T>(what: string, file: File, more: Record<string, string> = {}) =>
  json<T>(`/${what}?${new URLSearchParams({ name: file.name, ...more }).toString()}`, {
    method: 'POST',
    body: file,
  })
const based = (revision: number) => ({ 'if-match': `"${revision}"` })

export const api = {
  options: () => json<Options>('/options'),
  projects: () => json<ProjectCard[]>('/projects'),
  project: (id: string) => json<Project>(`/projects/${id}`),
  create: (from: NewProject) => json<Project>('/projects', send('POST', from)),
  remove: (id: string) => call(`/projects/${id}`, { method: 'DELETE' }),
  upload: (file: File) => fromFile<Upload>('uploads', file),
  points: (file: File) => fromFile<S['OwnPoints']>('points', file),
  /** Numbers at places; lengths of the file are in so many mm. */
  table: (file: File, mm: number, column?: string) =>
    fromFile<S['FoundTable']>('table', file, {
      mm: String(mm),
      ...(column !== undefined && { column }),
    }),
  cell: (file: File) => fromFile<S['FoundMesh']>('cell', file),
  /** A pattern of a kind, with what it has in common with the one before. */
  pattern: (kind: string, before: Recipe['structure']['pattern']) =>
    json<Recipe['structure']['pattern']>(`/structures/${kind}/pattern`, send('POST', before)),
  struts: (file: File) => fromFile<S['FoundStruts']>('struts', file),
  setRecipe: (id: string, revision: number, recipe: Recipe) =>
    json<Project>(`/projects/${id}/recipe`, send('PUT', recipe, based(revision))),
  addFile: (id: string, revision: number, file: NewFile) =>
    json<Project>(`/projects/${id}/files`, send('POST', file, based(revision))),
  health: (id: string) => json<S['Health']>(`/projects/${id}/health`),
  ghosts: async (id: string) => new Float32Array(await bytes(`/projects/${id}/ghosts`)),
  undo: (id: string, revision: number) =>
    json<Project>(`/projects/${id}/undo`, { method: 'POST', headers: based(revision) }),
  redo: (id: string, revision: number) =>
    json<Project>(`/projects/${id}/redo`, { method: 'POST', headers: based(revision) }),
  setCard: (id: string, png: Blob) =>
    call(`/projects/${id}/card`, {
      method: 'PUT',
      headers: { 'content-type': 'image/png' },
      body: png,
    }),
  draft: (id: string, recipe: Recipe, drag: boolean, thickness: boolean, signal: AbortSignal) =>
    bytes(`/projects/${id}/draft`, { ...send('POST', { recipe, drag, thickness }), signal }),
  stopDraft: (id: string) => call(`/projects/${id}/draft`, { method: 'DELETE' }),
  faces: (id: string, part: Recipe['part']) => bytes(`/projects/${id}/faces`, send('POST', part)),
  loops: (id: string, part: Recipe['part'], face: number) =>
    json<EdgeLoop[]>(`/projects/${id}/faces/${face}/loops`, send('POST', part)),
  moved: (id: string) => bytes(`/projects/${id}/moved`),
  /** How far places lie from the border of a zone or body, negative inside. */
  within: async (
    id: string,
    of: { of: 'zone'; id: number } | { of: 'body'; name: string },
    places: Float32Array<ArrayBuffer>,
    signal: AbortSignal,
  ) => {
    const headers = { 'content-type': 'application/octet-stream' }
    const path = `/projects/${id}/within?${of.of}=${of.of === 'zone' ? of.id : encodeURIComponent(of.name)}`
    return new Float32Array(await bytes(path, { method: 'POST', headers, body: places, signal }))
  },
  /** What is known of a recipe without a mesh. */
  estimate: (id: string, recipe: Recipe, signal: AbortSignal) =>
    json<Estimate>(`/projects/${id}/estimate`, { ...send('POST', recipe), signal }),
  /** What the final mesh will take, from blocks that are made of it. */
  cost: (id: string, recipe: Recipe, signal: AbortSignal) =>
    json<Cost>(`/projects/${id}/cost`, { ...send('POST', recipe), signal }),
  /** How many seed points, how many of their cells are whole, three numbers for each point, six for each edge. */
  cells: (id: string, recipe: Recipe, zone: number | null) => numbers('cells', id, recipe, zone),
  skeleton: (id: string, recipe: Recipe, zone: number | null) =>
    numbers('skeleton', id, recipe, zone),
  /** What a grading gives in the part's box: place, step, counts, and the samples, x first. */
  graded: async (
    id: string,
    recipe: Recipe,
    { grading, zone }: { grading: number; zone: number | null },
    signal: AbortSignal,
  ) => {
    const path = `/projects/${id}/gradings/${grading}${ofZone(zone)}`
    return new Float32Array(await bytes(path, { ...send('POST', recipe), signal }))
  },
  /** How the numbers of a grading's sources are spread over the part. */
  spreads: (
    id: string,
    recipe: Recipe,
    { grading, zone }: { grading: number; zone: number | null },
    signal: AbortSignal,
  ) =>
    json<(S['SourceSpread'] | null)[]>(
      `/projects/${id}/gradings/${grading}/spread${ofZone(zone)}`,
      { ...send('POST', recipe), signal },
    ),
  picture: (id: string) => bytes(`/projects/${id}/picture`),
  logOut: () => call('/session', { method: 'DELETE' }),
  startFinal: (id: string) => json<Job>(`/projects/${id}/final`, { method: 'POST' }),
  cancel: (job: string) => json<Job>(`/jobs/${job}`, { method: 'DELETE' }),
  export: (id: string, kind: FileKind, file_name: string, body: string | null) =>
    json<ExportReady>(`/projects/${id}/export`, send('POST', { kind, file_name, body })),
}
