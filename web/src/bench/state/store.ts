import { create } from 'zustand'
import {
  Refused,
  Unreachable,
  type FaceInfo,
  type Job,
  type Project,
  type Recipe,
  type RunInfo,
  type Stage,
} from '../../api/client'
import type { FollowedFaces } from '../recipe/followedRules'
import type { PickTool } from '../view/FacePicker'
import type { GradedField } from '../view/FieldPaint'
import type { StrutColour } from '../view/skeleton'

export type Step =
  'part' | 'zones' | 'structure' | 'grading' | 'thicken' | 'mesh' | 'checks' | 'handoff'
/**
 * What a click on the part picks: faces for what is chosen, the place of a drain hole, the face to
 * stand on, or a place with a value.
 */
export type Picking = 'faces' | 'drain' | 'down' | 'point'
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

/** What has faces or a place: by its number, of the rows of cells, or of the open grading. */
export interface Chosen {
  of: 'zone' | 'skin' | 'pocket' | 'source' | FollowedFaces
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
  /** Number of the grading that is open, of the filling that is worked on. */
  grading: number | null
  /** The point of that grading's values that is worked on. */
  point: number | null
  /** What that grading gives, once it is known. */
  field: GradedField | null
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

/** The bench before a project is open. */
export const blank: BenchState = {
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
  grading: null,
  point: null,
  field: null,
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
export const { getState: get, setState: set } = useBench

export const underWay = (job: Job | null) => job?.state === 'queued' || job?.state === 'running'

/** What the server says of a picture rides in it. */
export function extras<T>(glb: ArrayBuffer): T {
  const view = new DataView(glb)
  const text = new TextDecoder().decode(new Uint8Array(glb, 20, view.getUint32(12, true)))
  return JSON.parse(text).asset.extras
}

/** Tells what went wrong. That the server does not answer is told in its own way; see `saving`. */
export function reportProblem(e: unknown) {
  if (e instanceof Unreachable) set({ offline: true })
  else if (e instanceof Refused) set({ problem: { message: e.message, hint: e.hint } })
  else throw e
}
