import { useRef, useState } from 'react'
import {
  cubeEdges,
  mirrored,
  nameOf,
  nodeName,
  repeats,
  seen,
  shiftedBy,
  steps,
  type Eye,
  type Node,
  type Strut,
} from './cell'
import './drawing.css'

const size = 250

interface Props {
  struts: readonly Strut[]
  /** Points along each side, less one. */
  raster: number
  /** The planes that a new strut is mirrored in. */
  planes: readonly boolean[]
  /** Three by three by three cells, to look at. */
  repeated: boolean
  /** Where the strut in work begins. */
  from: Node | null
  chosen: string | null
  onPoint: (p: Node) => void
  /** Of the cell itself, or none for a copy beside it. */
  onStrut: (name: string | null) => void
  onKey: (key: string) => boolean
}

/** The cube with its struts, and the points to draw more between. Nearer things are darker. */
export function CellDrawing({
  struts,
  raster,
  planes,
  repeated,
  from,
  chosen,
  onPoint,
  onStrut,
  onKey,
}: Props) {
  const [eye, setEye] = useState<Eye>({ turn: 0.45, tilt: 0.42 })
  const [over, setOver] = useState<Node | null>(null)
  const turning = useRef<{ x: number; y: number; eye: Eye } | null>(null)

  const scale = (size * (repeated ? 0.19 : 0.52)) / steps
  const place = (p: Node) => {
    const [x, y, depth] = seen(p, eye)
    return { x: size / 2 + x * scale, y: size / 2 - y * scale, depth }
  }
  const line = ([a, b]: Strut) => {
    const [p, q] = [place(a), place(b)]
    return { ends: { x1: p.x, y1: p.y, x2: q.x, y2: q.y }, depth: (p.depth + q.depth) / 2 }
  }
  const deepest = (steps / 2) * Math.sqrt(3) * (repeated ? 3 : 1)
  const fade = (depth: number) => ({ opacity: 0.35 + 0.65 * ((depth + deepest) / (2 * deepest)) })
  const farFirst = (a: { depth: number }, b: { depth: number }) => a.depth - b.depth

  const copies: Node[] = repeated ? repeats : [[0, 0, 0]]
  const drawn = copies
    .flatMap((by) =>
      struts.map((s) => ({
        name: nameOf(s),
        own: by.every((v) => v === 0),
        ...line(shiftedBy(s, by)),
      })),
    )
    .sort(farFirst)
  const along = Array.from({ length: raster + 1 }, (_, i) => (i * steps) / raster)
  const nodes = repeated
    ? []
    : along
        .flatMap((z) =>
          along.flatMap((y) => along.map((x) => ({ p: [x, y, z] as Node, ...place([x, y, z]) }))),
        )
        .sort(farFirst)
  const ghost =
    from && over && nodeName(from) !== nodeName(over) ? mirrored([from, over], planes) : []
  return (
    <svg
      className="drawing cell"
      width={size}
      height={size}
      role="group"
      aria-label="Own cell"
      tabIndex={0}
      onKeyDown={(e) => onKey(e.key) && e.preventDefault()}
      onPointerDown={(e) => {
        turning.current = { x: e.clientX, y: e.clientY, eye }
        e.currentTarget.setPointerCapture(e.pointerId)
      }}
      onPointerMove={(e) => {
        const t = turning.current
        if (t)
          setEye({
            turn: t.eye.turn + (e.clientX - t.x) / 90,
            tilt: Math.max(-1.5, Math.min(1.5, t.eye.tilt + (e.clientY - t.y) / 90)),
          })
      }}
      onPointerUp={() => (turning.current = null)}
    >
      {cubeEdges.map((e) => (
        <line key={nameOf(e)} className="side" {...line(e).ends} />
      ))}
      {drawn.map(({ name, own, ends, depth }, n) => (
        <line
          key={n}
          className={own && name === chosen ? 'strut chosen' : 'strut'}
          style={fade(depth)}
          strokeWidth={repeated ? 2.5 : 5}
          {...ends}
          onPointerDown={(e) => {
            e.stopPropagation()
            onStrut(own ? name : null)
          }}
        />
      ))}
      {ghost.map((g) => (
        <line key={nameOf(g)} className="ghost" {...line(g).ends} />
      ))}
      {nodes.map(({ p, x, y, depth }) => (
        <circle
          key={nodeName(p)}
          className={from && nodeName(from) === nodeName(p) ? 'node chosen' : 'node'}
          aria-label={`Point ${nodeName(p)}`}
          style={fade(depth)}
          cx={x}
          cy={y}
          r={raster > 4 ? 3.5 : 5}
          onPointerEnter={() => setOver(p)}
          onPointerLeave={() => setOver(null)}
          onPointerDown={(e) => {
            e.stopPropagation()
            onPoint(p)
          }}
        />
      ))}
    </svg>
  )
}
