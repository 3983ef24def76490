import { InputNumber, Segmented, Select, Tooltip } from 'antd'
import { useEffect, useRef, useState } from 'react'
import { api, type FaceInfo } from '../../api/client'
import { area, mm } from '../../shared/format'
import { ShowPlace } from '../recipe/Checks'
import { facesOf, numbersOf, withFaces } from '../recipe/faceRules'
import { fillingOf, useFilling } from '../recipe/filling'
import { kindOf } from '../recipe/patternRules'
import { choiceOf, useChoices, withStructure } from '../recipe/structureRules'
import { withShape } from '../recipe/shapeRules'
import { centreOf, middle, moved, same, triple, withZone } from '../recipe/zoneRules'
import { stageTitles } from '../stages'
import {
  colour,
  drawAgain,
  drill,
  edit,
  fetchLines,
  lookAt,
  preview,
  stand,
  stopDrawing,
  useBench,
  type Axis,
  type ColourBy,
  type Picking,
  type ViewMode,
  type Step,
} from '../state'
import { setInView } from './inView'
import { Scene, sides, type Readout } from './Scene'
import { CellsLegend, Legend, MovedLegend, roleNames, StrutsLegend } from './Legends'
import { CellLines, SkeletonLines, type StrutColour } from './skeleton'
import './view.css'

export function View() {
  const canvas = useRef<HTMLCanvasElement>(null)
  const scene = useRef<Scene | null>(null)
  const [readout, setReadout] = useState<Readout | null>(null)
  const [painted, setPainted] = useState(0)
  const [face, setFace] = useState<number | null>(null)
  const [band, setBand] = useState<[number, number, number, number] | null>(null)
  const s = useBench()
  const { project, picture, recipe } = s

  useEffect(() => {
    if (!canvas.current) return
    const made = new Scene(canvas.current, {
      cut: (at) => useBench.setState((b) => ({ cut: { ...b.cut, at } })),
      place: (p, done) => {
        const { step, chosen, control, recipe: now, project: open } = useBench.getState()
        const change = done ? edit : preview
        const centre = open ? centreOf(open.part) : [0, 0, 0]
        if (step === 'part' && now?.part.shape?.shape === 'free_form') {
          const to = triple(p.shift.map((v, i) => Number((v + (centre[i] ?? 0)).toFixed(2))))
          change(
            withShape('free_form', (s) => ({
              ...s,
              points_mm: s.points_mm.map((q, n) => (n === control ? to : q)),
            })),
          )
        } else if (step === 'zones' && chosen?.of === 'zone' && open) {
          const to = p.shift.map((v, i) => v + (centre[i] ?? 0))
          change(withZone(chosen.index, (z) => ({ ...z, place: moved(z.place, to) })))
        } else {
          change(withStructure({ shift_mm: p.shift, rotation_deg: p.turn }))
        }
      },
      face: setFace,
      pick: (met) => {
        const { recipe: now, chosen, faces, picking } = useBench.getState()
        if (picking === 'drain') return drill(met.place, met.outward)
        if (picking === 'down') return stand(met.outward)
        const mark = faces?.list[met.face]?.mark
        const held = now && facesOf(now, chosen)
        if (!chosen || !mark || !held) return
        edit(
          withFaces(
            chosen,
            held.some((f) => same(f, mark)) ? held.filter((f) => !same(f, mark)) : [...held, mark],
          ),
        )
      },
      sweep: (swept) => take(swept, false),
      loop: (beyond) => take(beyond, true),
      loops: (face) => {
        const { project: open, recipe: now } = useBench.getState()
        return open && now ? api.loops(open.id, now.part, face) : Promise.resolve([])
      },
      band: setBand,
      control: (control) => useBench.setState({ control }),
      painted: setPainted,
      readout: setReadout,
    })
    scene.current = made
    setInView(() => made.middle())
    return () => {
      setInView(null)
      made.dispose()
      scene.current = null
    }
  }, [])

  const part = project?.part
  const id = project?.id
  const framed = part ? [...part.min_mm, ...part.size_mm].join(' ') : ''
  useEffect(() => {
    const box = framed.split(' ').map(Number)
    if (framed) scene.current?.setBox(box.slice(0, 3), box.slice(3))
  }, [framed])

  useEffect(() => {
    if (picture) void scene.current?.setPicture(picture)
  }, [picture])

  const wanted = picture?.info.linked.thickness_mm ?? 1
  useEffect(
    () => scene.current?.setColour(s.colourBy, [0.5 * wanted, 2 * wanted]),
    [s.colourBy, wanted, picture],
  )
  const filling = useFilling()
  const seeded =
    choiceOf(useChoices(), filling ? kindOf(filling.filling.structure.pattern) : 'gyroid')
      ?.family === 'seeded'
  const hasStruts = filling?.found?.walls === false && !!filling.found.structure
  // A kind chosen later may have none of them to show.
  const lacking =
    (s.view === 'cells' && !seeded) || (s.view === 'skeleton' && picture && !hasStruts)
  const view = lacking ? 'whole' : s.view
  const struts = view === 'skeleton'
  const cells = view === 'cells'
  useEffect(() => {
    if (lacking) lookAt('whole')
  }, [lacking])
  const saved = project?.recipe
  // While values change they are fetched with the numbers.
  const of = filling?.at
  useEffect(() => {
    if (id && (view === 'cells' || view === 'skeleton')) void fetchLines(view)
  }, [view, id, of])
  useEffect(() => {
    const lines =
      struts && s.skeleton
        ? new SkeletonLines(s.skeleton, s.strutColour)
        : cells && s.cells
          ? new CellLines(s.cells)
          : null
    scene.current?.setLines(lines)
  }, [struts, cells, s.skeleton, s.cells, s.strutColour])
  useEffect(() => scene.current?.setCut(view === 'cut', s.cut), [view, s.cut, framed])
  const standing = project?.standing
  const bed = recipe?.stand?.bed_mm
  useEffect(
    () => scene.current?.setStanding(bed && standing ? { turn: standing.turn.flat(), bed } : null),
    [bed, standing, framed],
  )
  const partKey = saved ? JSON.stringify(saved.part) : ''
  const map = s.step === 'part' && s.moved?.key === partKey ? s.moved : null
  useEffect(() => void scene.current?.setMap(map?.glb ?? null, map?.greatest ?? 1), [map])
  const sheet =
    s.step === 'part' && recipe?.part.shape?.shape === 'free_form' ? recipe.part.shape : null
  const ways = s.step === 'part' && !s.picking ? s.project?.directions : null
  useEffect(
    () => scene.current?.setDirections(ways ? { u: ways.u_mm, v: ways.v_mm } : null),
    [ways, framed],
  )
  useEffect(
    () => scene.current?.setCage(sheet?.points_mm ?? [], sheet?.across ?? 1, s.control),
    [sheet, s.control, framed],
  )
  const zone =
    s.step === 'zones' && s.chosen?.of === 'zone'
      ? (recipe?.zones.list[s.chosen.index] ?? null)
      : null
  useEffect(() => {
    if (!recipe || !part) return
    const at =
      zone && !s.locked.includes(zone.id)
        ? middle(zone.place)
        : (sheet?.points_mm[s.control] ?? null)
    const { shift_mm, rotation_deg } = fillingOf(recipe, s.filled).structure
    const centre = centreOf(part)
    const shift = at ? at.map((v, i) => v - (centre[i] ?? 0)) : shift_mm
    const turn = at ? [0, 0, 0] : rotation_deg
    scene.current?.setHandle(at ? 'shift' : s.step === 'structure' ? s.handle : null, {
      shift: triple(shift),
      turn: triple(turn),
    })
  }, [s.handle, s.step, s.filled, recipe, framed, zone, part, sheet, s.control, s.locked])
  const zones = recipe?.zones.list
  const bodyRoles = Object.values(recipe?.part.roles ?? {})
  const solidRest = recipe?.zones.rest === 'keep_solid'
  const hasSkin = (recipe?.zones.skins.length ?? 0) > 0
  const grid = picture?.info.step_mm ?? 1
  useEffect(
    () =>
      scene.current?.setPosts(solidRest ? [] : (zones ?? []), bodyRoles.length > 0, hasSkin, grid),
    [zones, bodyRoles.length, hasSkin, grid, solidRest],
  )
  const beside = Object.values(saved?.part.roles ?? {}).some(
    (role) => role === 'keep_clear' || role === 'reference',
  )
  const ghostKey = beside && saved ? JSON.stringify(saved.part) : ''
  useEffect(() => {
    if (!ghostKey || !id) return scene.current?.setBeside(null)
    let current = true
    // What cannot be shown beside the part is no loss.
    void api
      .ghosts(id)
      .then((corners) => current && scene.current?.setBeside(corners))
      .catch(() => undefined)
    return () => {
      current = false
    }
  }, [ghostKey, id])
  const alone =
    (s.step === 'zones' && s.alone?.of === 'zone') || (s.step === 'part' && s.alone?.of === 'body')
      ? s.alone
      : null
  const zoneAlone = alone?.of === 'zone' ? alone.id : null
  useEffect(() => {
    const veiled =
      s.step === 'zones'
        ? (zones ?? []).filter((z) =>
            zoneAlone === null ? !s.hidden.includes(z.id) : z.id === zoneAlone,
          )
        : []
    scene.current?.setGhosts(veiled, zone)
  }, [s.step, zones, zone, zoneAlone, s.hidden])
  const place = (zoneAlone !== null && zones?.find((z) => z.id === zoneAlone)?.place) || null
  const byPoints = alone !== null && (alone.of === 'body' || place?.shape === 'faces')
  useEffect(
    () => scene.current?.setAlone(byPoints ? 'within' : place, grid),
    [byPoints, place, grid],
  )
  useEffect(() => {
    if (!byPoints || !alone || !id || !saved || painted === 0) return
    const stop = new AbortController()
    const places = scene.current?.places() ?? new Float32Array()
    // Without an answer everything stays in sight.
    void api
      .within(id, alone, places, stop.signal)
      .then((far) => stop.signal.aborted || scene.current?.setBeyond(far))
      .catch(() => undefined)
    return () => stop.abort()
  }, [byPoints, alone, id, saved, painted])
  const pickable: Partial<Record<Step, boolean>> = {
    zones: s.picking !== 'down',
    part: s.picking === 'down',
    structure: s.picking === 'faces',
  }
  const picking = s.step && pickable[s.step] ? s.picking : null
  const partFaces = s.faces
  useEffect(() => void scene.current?.setFaces(partFaces?.glb ?? null), [partFaces])
  useEffect(
    () => scene.current?.setPicking(picking !== null, picking === 'faces' ? s.pickTool : 'click'),
    [picking, s.pickTool],
  )
  useEffect(() => {
    const held = (recipe && facesOf(recipe, s.chosen)) ?? []
    scene.current?.chooseFaces(numbersOf(partFaces?.list ?? [], held))
  }, [recipe, s.chosen, partFaces])
  useEffect(() => {
    if (s.look) scene.current?.lookAt(s.look)
  }, [s.look])
  // What was told of another part is over.
  useEffect(() => useBench.setState({ look: null }), [partKey])
  const told = s.step === 'part' || s.step === 'checks' ? s.look : null
  useEffect(() => scene.current?.setMark(told), [told, framed])

  // The start screen shows the picture as it was last seen at rest.
  useEffect(() => {
    // Not while the part itself is shown instead.
    if (
      !id ||
      map ||
      picking ||
      painted === 0 ||
      picture?.n !== painted ||
      picture.info.quality === 'drag'
    )
      return
    const timer = window.setTimeout(async () => {
      const png = await scene.current?.card()
      // A missed picture of the start screen is no loss.
      if (png) await api.setCard(id, png).catch(() => undefined)
    }, 700)
    return () => window.clearTimeout(timer)
  }, [id, painted, picture, map, picking])

  useEffect(() => {
    const keys = (e: KeyboardEvent) => {
      if (e.target instanceof HTMLInputElement || e.ctrlKey || e.metaKey || e.altKey) return
      const side = { '1': 'angle', '2': 'front', '3': 'right', '4': 'top' }[e.key]
      const direction = side && sides[side]
      if (direction) scene.current?.view(direction)
      else if (e.key === 'f') scene.current?.fit()
      else if (e.key === 'c') lookAt(useBench.getState().view === 'cut' ? 'whole' : 'cut')
    }
    window.addEventListener('keydown', keys)
    return () => window.removeEventListener('keydown', keys)
  }, [])

  const info = picture?.info
  const drawn = info && picture.n === painted ? info.quality : 'none'
  const [low, high] = part
    ? [
        part.min_mm[s.cut.axis] ?? 0,
        (part.min_mm[s.cut.axis] ?? 0) + (part.size_mm[s.cut.axis] ?? 0),
      ]
    : [0, 1]

  return (
    <section
      className="view"
      aria-label="Picture"
      data-painted={drawn}
      data-picture={painted}
      data-step={info?.step_mm}
    >
      <div className="canvas">
        <canvas ref={canvas} aria-label="The part" />
      </div>
      <div className="corner top left">
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
        {view === 'cut' && (
          <div className="cutbar">
            <Segmented<Axis>
              aria-label="Cut across"
              size="small"
              value={s.cut.axis}
              // The half nearer to the first view goes, so that the cut face is seen.
              onChange={(axis) =>
                part &&
                useBench.setState({
                  cut: {
                    axis,
                    at: (part.min_mm[axis] ?? 0) + (part.size_mm[axis] ?? 0) / 2,
                    flipped: axis === 1,
                  },
                })
              }
              options={[
                { value: 0, label: 'X' },
                { value: 1, label: 'Y' },
                { value: 2, label: 'Z' },
              ]}
            />
            <input
              type="range"
              aria-label="Cut position"
              min={low}
              max={high}
              step={(high - low) / 400}
              value={s.cut.at}
              onChange={(e) => useBench.setState({ cut: { ...s.cut, at: Number(e.target.value) } })}
            />
            <InputNumber
              size="small"
              aria-label="Cut at"
              value={Number(s.cut.at.toFixed(1))}
              min={low}
              max={high}
              step={1}
              suffix="mm"
              controls={false}
              style={{ width: 84 }}
              onChange={(at) => at !== null && useBench.setState({ cut: { ...s.cut, at } })}
            />
            <Tooltip title="Keep the other side">
              <button
                className="plainbutton"
                aria-label="Keep the other side"
                onClick={() => useBench.setState({ cut: { ...s.cut, flipped: !s.cut.flipped } })}
              >
                ⇄
              </button>
            </Tooltip>
          </div>
        )}
      </div>
      {!cells && (
        <div className="corner top right">
          <span className="colourby">
            Colour
            {struts ? (
              <Chosen<StrutColour>
                label="Colour struts by"
                value={s.strutColour}
                onChange={(strutColour) => useBench.setState({ strutColour })}
                options={[
                  { value: 'length', label: 'by length' },
                  { value: 'state', label: 'by how struts lie' },
                ]}
              />
            ) : (
              <Chosen<ColourBy>
                label="Colour by"
                value={s.colourBy}
                onChange={colour}
                options={[
                  { value: 'zone', label: 'by zone' },
                  { value: 'thickness', label: 'by wall thickness' },
                ]}
              />
            )}
          </span>
        </div>
      )}
      {band && (
        <div
          className="band"
          style={{
            left: band[0],
            top: band[1],
            width: band[2] - band[0],
            height: band[3] - band[1],
          }}
        />
      )}
      {map ? (
        <MovedLegend most={map.greatest} />
      ) : cells ? (
        <CellsLegend cells={s.cells} />
      ) : struts ? (
        <StrutsLegend struts={s.skeleton} by={s.strutColour} />
      ) : (
        <Legend
          colourBy={s.colourBy}
          low={0.5 * wanted}
          high={2 * wanted}
          waiting={s.colourBy === 'thickness' && !info?.has_thickness}
          skin={(recipe?.zones.skins.length ?? 0) > 0}
          solids={
            recipe?.zones.rest === 'keep_solid' ||
            bodyRoles.includes('keep_solid') ||
            (recipe?.zones.list ?? []).some((z) => z.role === 'keep_solid')
          }
        />
      )}
      <div className="corner bottom right">
        <div className="views" role="group" aria-label="Views">
          {(['angle', 'front', 'right', 'top'] as const).map((name) => (
            <button
              key={name}
              className="plainbutton"
              onClick={() => sides[name] && scene.current?.view(sides[name])}
            >
              {name === 'angle'
                ? 'Angle'
                : name === 'front'
                  ? 'Front'
                  : name === 'right'
                    ? 'Side'
                    : 'Top'}
            </button>
          ))}
          <button className="plainbutton" onClick={() => scene.current?.fit()}>
            Fit
          </button>
        </div>
        <State />
      </div>
      {picking && (
        <FaceWords face={face === null ? undefined : partFaces?.list[face]} picking={picking} />
      )}
      {readout && (
        <div className="readout" style={{ left: readout.x, top: readout.y }}>
          {roleNames[readout.role]}
          {readout.thickness !== null && (
            <span className="figure"> {mm(readout.thickness)} thick</span>
          )}
        </div>
      )}
      <Notes />
    </section>
  )
}

/** One of a few, opened from where it is told. */
function Chosen<T extends string>({
  label,
  value,
  onChange,
  options,
}: {
  label: string
  value: T
  onChange: (v: T) => void
  options: { value: T; label: string }[]
}) {
  return (
    <Select<T>
      aria-label={label}
      size="middle"
      variant="borderless"
      popupMatchSelectWidth={false}
      value={value}
      onChange={onChange}
      options={options}
    />
  )
}

const kindNames = {
  plane: 'Plane',
  cylinder: 'Cylinder',
  cone: 'Cone',
  sphere: 'Sphere',
  free: 'Free face',
}

/** The face under the pointer, with its kind and size. */
function FaceWords({ face, picking }: { face?: FaceInfo; picking: Picking }) {
  return (
    <div className="facewords" role="status">
      {face ? (
        <>
          {kindNames[face.mark.kind]}
          <span className="figure">
            {face.radius_mm != null && ` ⌀ ${mm(2 * face.radius_mm)},`} {area(face.mark.area_mm2)}
          </span>
        </>
      ) : (
        <>
          {
            {
              drain: 'Click where the hole goes in',
              down: 'Click the face that goes down',
              faces: 'Point at a face of the part',
            }[picking]
          }
        </>
      )}
    </div>
  )
}

/** How many whole seconds have gone since something began; 0 while nothing goes on. */
function useLasting(since: number | undefined) {
  const [seconds, setSeconds] = useState(0)
  useEffect(() => {
    setSeconds(0)
    if (since === undefined) return
    const timer = window.setInterval(
      () => setSeconds(Math.floor((performance.now() - since) / 1000)),
      250,
    )
    return () => window.clearInterval(timer)
  }, [since])
  return seconds
}

/** What the picture is, in words; what is drawn, where that takes long. */
function State() {
  const { picture, working, behind, drawing, stopped } = useBench()
  const seconds = useLasting(drawing?.since)
  const q = picture?.info.quality
  if (drawing && seconds > 0) {
    return (
      <div className="state" role="status">
        <span className="dot busy" />
        {drawing.stage ? stageTitles[drawing.stage] : 'The part is made ready'}
        <span className="figure muted">{seconds} s</span>
        <button className="plainbutton" onClick={() => void stopDrawing()}>
          Stop
        </button>
      </div>
    )
  }
  if (stopped && !working) {
    return (
      <div className="state" role="status">
        <span className="dot" />
        stopped: the picture is of earlier values
        <button className="plainbutton" onClick={drawAgain}>
          Draw
        </button>
      </div>
    )
  }
  return (
    <div className="state" role="status">
      <span className={working ? 'dot busy' : q === 'final' && !behind ? 'dot done' : 'dot'} />
      {working
        ? behind
          ? 'working'
          : 'drawing'
        : behind
          ? 'the mesh waits'
          : q === 'final'
            ? 'final mesh'
            : q
              ? 'draft'
              : 'no picture yet'}
      {picture && !behind && <span className="figure muted"> grid {picture.info.step_mm} mm</span>}
    </div>
  )
}

function Notes() {
  const { picture, problem: failed, refusal } = useBench()
  const problem = refusal ?? failed
  const notes = problem ? [] : (picture?.info.report.notes ?? [])
  if (!problem && notes.length === 0) return null
  return (
    <div className="notes" role="alert">
      {problem && (
        <p>
          <strong className="bad">{problem.message}</strong> {problem.hint}
        </p>
      )}
      {notes.map((n) => (
        <p key={n.text}>
          {n.text} <ShowPlace place={n.place_mm} />
        </p>
      ))}
    </div>
  )
}

/** Adds faces to what is chosen; those that are all there already `leave`. */
function take(numbers: readonly number[], leave: boolean) {
  const { recipe, chosen, faces, picking } = useBench.getState()
  const held = recipe && facesOf(recipe, chosen)
  if (!chosen || !held || picking !== 'faces') return
  const marks = numbers.flatMap((n) => faces?.list[n]?.mark ?? [])
  const more = marks.filter((m) => !held.some((f) => same(f, m)))
  if (more.length > 0) edit(withFaces(chosen, [...held, ...more]))
  else if (leave && marks.length > 0)
    edit(
      withFaces(
        chosen,
        held.filter((f) => !marks.some((m) => same(f, m))),
      ),
    )
}
