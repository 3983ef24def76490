import { Button, Checkbox, Segmented, Select } from 'antd'
import { useEffect, useRef, useState, type KeyboardEvent, type PointerEvent } from 'react'
import { edit } from '../state'
import { cellOf, distinct, mirrored, nameOf, seen, steps, strutsOf, type Eye, type Node, type OwnCell, type Strut } from './cell'
import { useChoices, withStructure } from './structureRules'
import './cell.css'

const size = 250
const half = steps / 2
/** Edges of the cube. */
const edges: Strut[] = [0, 1, 2].flatMap((axis) =>
  [0, 1, 2, 3].map((n) => {
    const at = (v: number): Node => {
      const p = [0, 0, 0]
      p[axis] = v
      p[(axis + 1) % 3] = n & 1 ? steps : 0
      p[(axis + 2) % 3] = n & 2 ? steps : 0
      return [p[0] ?? 0, p[1] ?? 0, p[2] ?? 0]
    }
    return [at(0), at(steps)] as const
  }),
)

/** A cube in which struts are drawn from point to point. */
export function CellEditor({ cell }: { cell: OwnCell }) {
  const choices = useChoices()
  const [eye, setEye] = useState<Eye>({ turn: 0.45, tilt: 0.42 })
  const [raster, setRaster] = useState(2)
  const [planes, setPlanes] = useState([true, true, true])
  const [repeated, setRepeated] = useState(false)
  const [from, setFrom] = useState<Node | null>(null)
  const [over, setOver] = useState<Node | null>(null)
  const [chosen, setChosen] = useState<string | null>(null)
  const frame = useRef<HTMLDivElement>(null)
  useEffect(() => {
    void frame.current?.scrollIntoView({ block: 'nearest' })
  }, [])
  const turning = useRef<{ x: number; y: number; eye: Eye } | null>(null)

  const struts = strutsOf(cell)
  const scale = (size * (repeated ? 0.19 : 0.52)) / steps
  const place = (p: readonly number[]) => {
    const [x, y, z] = seen(p, eye)
    return [size / 2 + x * scale, size / 2 - y * scale, z] as const
  }
  const set = (list: readonly Strut[]) => edit(withStructure({ own_cell: cellOf(distinct(list)) }))
  const images = (s: Strut) => mirrored(s, planes).map(nameOf)
  const remove = () => {
    const gone = struts.find((s) => nameOf(s) === chosen)
    const left = gone ? struts.filter((s) => !images(gone).includes(nameOf(s))) : struts
    setChosen(null)
    if (left.length > 0) set(left)
  }
  const take = (p: Node) => {
    setChosen(null)
    if (!from) return setFrom(p)
    setFrom(null)
    if (from.join() !== p.join()) set([...struts, ...mirrored([from, p], planes)])
  }
  const keys = (e: KeyboardEvent) => {
    if (e.key === 'Escape') setFrom(null)
    else if (e.key === 'Delete' && chosen) remove()
    else return
    e.preventDefault()
  }

  const along = Array.from({ length: raster + 1 }, (_, i) => (i * steps) / raster)
  const nodes = along.flatMap((z) => along.flatMap((y) => along.map((x): Node => [x, y, z])))
  const copies = repeated ? [-1, 0, 1].flatMap((z) => [-1, 0, 1].flatMap((y) => [-1, 0, 1].map((x) => [x * steps, y * steps, z * steps]))) : [[0, 0, 0]]
  const drawn = copies
    .flatMap((c) => struts.map((s) => ({ name: nameOf(s), own: c.every((v) => v === 0), ends: s.map((p) => place(p.map((v, i) => v + (c[i] ?? 0)))) })))
    .sort((a, b) => (a.ends[0]?.[2] ?? 0) + (a.ends[1]?.[2] ?? 0) - (b.ends[0]?.[2] ?? 0) - (b.ends[1]?.[2] ?? 0))
  const deepest = half * Math.sqrt(3) * (repeated ? 3 : 1)
  /** Nearer ones are darker. */
  const fade = (z: number) => 0.35 + 0.65 * ((z + deepest) / (2 * deepest))
  const ghost = from && over && from.join() !== over.join() ? mirrored([from, over], planes) : []
  const known = choices.filter((c) => c.drawn)
  return (
    <div className="celleditor" ref={frame}>
      <svg
        width={size}
        height={size}
        role="group"
        aria-label="Own cell"
        tabIndex={0}
        onKeyDown={keys}
        onPointerDown={(e: PointerEvent) => {
          turning.current = { x: e.clientX, y: e.clientY, eye }
          e.currentTarget.setPointerCapture(e.pointerId)
        }}
        onPointerMove={(e) => {
          const t = turning.current
          if (t) setEye({ turn: t.eye.turn + (e.clientX - t.x) / 90, tilt: Math.max(-1.5, Math.min(1.5, t.eye.tilt + (e.clientY - t.y) / 90)) })
        }}
        onPointerUp={() => (turning.current = null)}
      >
        {edges.map((e) => {
          const [a, b] = [place(e[0]), place(e[1])]
          return <line key={nameOf(e)} className="side" x1={a[0]} y1={a[1]} x2={b[0]} y2={b[1]} />
        })}
        {drawn.map(({ name, own, ends: [a, b] }, n) =>
          a && b ? (
            <line
              key={n}
              className={own && name === chosen ? 'strut chosen' : 'strut'}
              style={{ opacity: fade((a[2] + b[2]) / 2) }}
              strokeWidth={repeated ? 2.5 : 5}
              x1={a[0]}
              y1={a[1]}
              x2={b[0]}
              y2={b[1]}
              onPointerDown={(e) => {
                e.stopPropagation()
                setFrom(null)
                if (own) setChosen(name)
              }}
            />
          ) : null,
        )}
        {ghost.map((g) => {
          const [a, b] = [place(g[0]), place(g[1])]
          return <line key={nameOf(g)} className="ghost" x1={a[0]} y1={a[1]} x2={b[0]} y2={b[1]} />
        })}
        {!repeated &&
          nodes
            .map((p) => ({ p, at: place(p) }))
            .sort((a, b) => a.at[2] - b.at[2])
            .map(({ p, at }) => (
              <circle
                key={p.join()}
                className={from?.join() === p.join() ? 'node chosen' : 'node'}
                aria-label={`Point ${p.join(' ')}`}
                style={{ opacity: fade(at[2]) }}
                cx={at[0]}
                cy={at[1]}
                r={raster > 4 ? 3.5 : 5}
                onPointerEnter={() => setOver(p)}
                onPointerLeave={() => setOver(null)}
                onPointerDown={(e) => {
                  e.stopPropagation()
                  take(p)
                }}
              />
            ))}
      </svg>
      <p className="small muted">{from ? 'Click where the strut ends.' : chosen ? 'Delete takes the strut away, with its mirrors.' : 'Click two points for a strut. Drag beside them to turn the cube.'}</p>
      <div className="line">
        <Segmented<boolean>
          size="small"
          aria-label="One cell or its repeat"
          value={repeated}
          options={[
            { value: false, label: 'One cell' },
            { value: true, label: '3 × 3 × 3' },
          ]}
          onChange={setRepeated}
        />
        <Button size="small" disabled={!chosen || struts.length < 2} onClick={remove}>
          Remove strut
        </Button>
      </div>
      <div className="line">
        <span className="label">Raster</span>
        <Segmented<number> size="small" aria-label="Raster" value={raster} options={[2, 3, 4, 6].map((n) => ({ value: n, label: `1⁄${n}` }))} onChange={setRaster} />
      </div>
      <div className="line">
        <span className="label">Mirrored along</span>
        <span>
          {['X', 'Y', 'Z'].map((axis, i) => (
            <Checkbox key={axis} checked={planes[i]} onChange={(e) => setPlanes(planes.map((on, j) => (i === j ? e.target.checked : on)))}>
              {axis}
            </Checkbox>
          ))}
        </span>
      </div>
      <div className="line">
        <span className="label">Begin again with</span>
        <Select<string>
          size="small"
          aria-label="Begin again with"
          style={{ width: 150 }}
          placeholder="a cell"
          value={null}
          options={known.map((c) => ({ value: c.kind, label: c.title }))}
          onChange={(kind) => {
            const found = known.find((c) => c.kind === kind)?.drawn
            setChosen(null)
            if (found) edit(withStructure({ own_cell: found }))
          }}
        />
      </div>
    </div>
  )
}
