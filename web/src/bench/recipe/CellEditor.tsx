import { Button, Checkbox, Segmented, Select } from 'antd'
import { useEffect, useRef, useState } from 'react'
import { edit } from '../state'
import {
  cellOf,
  distinct,
  mirrored,
  nameOf,
  nodeName,
  strutsOf,
  type Node,
  type OwnCell,
  type Strut,
} from './cell'
import { CellDrawing } from './CellDrawing'
import { ChoiceLine, Line } from './Lines'
import { withOf } from './patternRules'
import { useChoices } from './structureRules'

/** A cube in which struts are drawn from point to point. */
export function CellEditor({ cell }: { cell: OwnCell }) {
  const choices = useChoices()
  const [raster, setRaster] = useState(2)
  const [planes, setPlanes] = useState([true, true, true])
  const [repeated, setRepeated] = useState(false)
  const [from, setFrom] = useState<Node | null>(null)
  const [chosen, setChosen] = useState<string | null>(null)
  const frame = useRef<HTMLDivElement>(null)
  useEffect(() => {
    void frame.current?.scrollIntoView({ block: 'nearest' })
  }, [])

  const struts = strutsOf(cell)
  const known = choices.filter((c) => c.drawn)
  const set = (list: readonly Strut[]) => edit(withOf('own_cell', { own: cellOf(distinct(list)) }))
  const remove = () => {
    const gone = struts
      .filter((s) => nameOf(s) === chosen)
      .flatMap((s) => mirrored(s, planes).map(nameOf))
    const left = struts.filter((s) => !gone.includes(nameOf(s)))
    setChosen(null)
    if (left.length > 0) set(left)
  }
  const take = (p: Node) => {
    setChosen(null)
    setFrom(from ? null : p)
    if (from && nodeName(from) !== nodeName(p)) set([...struts, ...mirrored([from, p], planes)])
  }
  const key = (name: string) => {
    if (name === 'Escape') setFrom(null)
    else if (name === 'Delete' && chosen) remove()
    else return false
    return true
  }
  return (
    <div className="celleditor" ref={frame}>
      <CellDrawing
        struts={struts}
        raster={raster}
        planes={planes}
        repeated={repeated}
        from={from}
        chosen={chosen}
        onPoint={take}
        onStrut={(name) => {
          setFrom(null)
          if (name) setChosen(name)
        }}
        onKey={key}
      />
      <p className="small muted">
        {from
          ? 'Click where the strut ends.'
          : chosen
            ? 'Delete takes the strut away, with its mirrors.'
            : 'Click two points for a strut. Drag beside them to turn the cube.'}
      </p>
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
      <ChoiceLine
        label="Raster"
        value={raster}
        options={[2, 3, 4, 6].map((n) => ({ value: n, label: `1⁄${n}` }))}
        onChange={setRaster}
      />
      <Line label="Mirrored along">
        <span>
          {['X', 'Y', 'Z'].map((axis, i) => (
            <Checkbox
              key={axis}
              checked={planes[i]}
              onChange={(e) => setPlanes(planes.map((on, j) => (i === j ? e.target.checked : on)))}
            >
              {axis}
            </Checkbox>
          ))}
        </span>
      </Line>
      <Line label="Begin again with">
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
            if (found) edit(withOf('own_cell', { own: found }))
          }}
        />
      </Line>
    </div>
  )
}
