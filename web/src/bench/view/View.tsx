import { Segmented } from 'antd'
import { mm } from '../../shared/format'
import { lookAt, useBench, type ViewMode } from '../state'
import { ColourChoice } from './ColourChoice'
import { CutBar } from './CutBar'
import { FaceWords } from './FaceWords'
import { roleNames, ViewLegend } from './Legends'
import { Notes } from './Notes'
import { PictureState } from './PictureState'
import type { Readout } from './pointerValues'
import { useCard } from './useCard'
import { useFacesInView } from './useFacesInView'
import { useField, useFieldWords } from './useField'
import { useHandle } from './useHandle'
import { useLines, useViewMode } from './useLines'
import { usePartStep } from './usePartStep'
import { useResult } from './useResult'
import { useScene, type SceneRef } from './useScene'
import { useViewKeys } from './useViewKeys'
import { useZonesInView } from './useZonesInView'
import { sides } from './Viewpoint'
import './view.css'

/** The picture, with what is chosen for it at its corners. */
export function View() {
  const { canvas, scene, readout, painted, face, band } = useScene()
  const mode = useViewMode()
  useResult(scene)
  useLines(scene, mode)
  usePartStep(scene)
  useHandle(scene)
  useZonesInView(scene, painted)
  useFacesInView(scene)
  useField(scene)
  useCard(scene, painted)
  useViewKeys(scene)
  const step = useBench((b) => b.picture?.info.step_mm)
  const drawn = useBench(({ picture }) =>
    picture && picture.n === painted ? picture.info.quality : 'none',
  )
  return (
    <section
      className="view"
      aria-label="Picture"
      data-painted={drawn}
      data-picture={painted}
      data-step={step}
    >
      <div className="canvas">
        <canvas ref={canvas} aria-label="The part" />
      </div>
      <div className="corner top left">
        <ModeChoice {...mode} />
        {mode.view === 'cut' && <CutBar />}
      </div>
      {mode.view !== 'cells' && (
        <div className="corner top right">
          <ColourChoice struts={mode.view === 'skeleton'} />
        </div>
      )}
      {band && <Band box={band} />}
      <ViewLegend view={mode.view} />
      <div className="corner bottom right">
        <SideViews scene={scene} />
        <PictureState />
      </div>
      <FaceWords number={face} />
      {readout && <Values {...readout} />}
      <Notes />
    </section>
  )
}

function ModeChoice({ view, seeded, hasStruts }: ReturnType<typeof useViewMode>) {
  return (
    <Segmented<ViewMode>
      aria-label="View"
      value={view}
      onChange={lookAt}
      options={[
        { value: 'whole', label: 'Whole' },
        { value: 'cut', label: 'Cut' },
        ...(seeded ? [{ value: 'cells' as const, label: 'Cells' }] : []),
        ...(hasStruts ? [{ value: 'skeleton' as const, label: 'Skeleton' }] : []),
      ]}
    />
  )
}

const viewNames = { angle: 'Angle', front: 'Front', right: 'Side', top: 'Top' } as const

/** From where the part is seen. */
function SideViews({ scene }: { scene: SceneRef }) {
  return (
    <div className="views" role="group" aria-label="Views">
      {(Object.keys(viewNames) as (keyof typeof viewNames)[]).map((name) => (
        <button key={name} className="plainbutton" onClick={() => scene.current?.view(sides[name])}>
          {viewNames[name]}
        </button>
      ))}
      <button className="plainbutton" onClick={() => scene.current?.fit()}>
        Fit
      </button>
    </div>
  )
}

/** A box that is drawn around faces, in pixels of the canvas. */
function Band({ box: [left, top, right, bottom] }: { box: [number, number, number, number] }) {
  return <div className="band" style={{ left, top, width: right - left, height: bottom - top }} />
}

/** What the part is under a pointer that rests. */
function Values({ x, y, role, thickness, value }: Readout) {
  const field = useFieldWords()
  if (value !== undefined)
    return (
      <div className="readout" style={{ left: x, top: y }}>
        {field?.name ?? 'Value'}
        <span className="figure">
          {' '}
          {value.toFixed(2)} {field?.unit}
        </span>
      </div>
    )
  return (
    <div className="readout" style={{ left: x, top: y }}>
      {roleNames[role]}
      {thickness !== null && <span className="figure"> {mm(thickness)} thick</span>}
    </div>
  )
}
