/**
 * The state of the bench, and what changes it.
 *
 * | module | idea |
 * |---|---|
 * | `store` | what there is, and why something could not be done |
 * | `drawing` | pictures and lines: one draft at a time, the newest question counts |
 * | `saving` | changes of the recipe, one after the other, and final meshes |
 * | `project` | a project is opened, and what happens to it elsewhere |
 * | `picking` | what clicks on the part mean |
 */
export {
  underWay,
  useBench,
  type Alone,
  type Axis,
  type BenchState,
  type Chosen,
  type ColourBy,
  type Cut,
  type Handle,
  type Moved,
  type PartFaces,
  type Picking,
  type Picture,
  type Problem,
  type Step,
  type ViewMode,
  reportProblem,
} from './store'
export {
  colour,
  drawAgain,
  fetchField,
  fetchLines,
  lookAt,
  preview,
  redraw,
  stopDrawing,
} from './drawing'
export { addFile, cancelFinal, edit, redo, refresh, startFinal, undo } from './saving'
export { listen, open } from './project'
export { drill, loadFaces, pick, placeValue, showMoved, stand } from './picking'
