import { InputNumber, Segmented, Switch } from 'antd'
import { useState } from 'react'
import type { Recipe } from '../../api/client'
import { plain } from '../../shared/format'
import { edit, preview, useBench, type Handle } from '../state'
import { Value } from './Value'

type S = Recipe['structure']
const kinds: { value: S['kind']; label: string }[] = [
  { value: 'gyroid', label: 'Gyroid' },
  { value: 'schwarz_p', label: 'Schwarz P' },
  { value: 'schwarz_d', label: 'Schwarz D' },
  { value: 'iwp', label: 'I-WP' },
  { value: 'neovius', label: 'Neovius' },
  { value: 'frd', label: 'F-RD' },
  { value: 'split_p', label: 'Split P' },
  { value: 'lidinoid', label: 'Lidinoid' },
]
const forms: Record<S['form'], string> = { walls: 'walls', network: 'network', other_network: 'network, other side' }

const cells = (s: S) => {
  const [x = 0, y = 0, z = 0] = s.cell_mm
  return x === y && y === z ? `${plain(x)} mm` : `${plain(x)} × ${plain(y)} × ${plain(z)} mm`
}

export function structureSentence(r: Recipe) {
  const s = r.structure
  const kind = kinds.find((k) => k.value === s.kind)?.label
  const turned = s.rotation_deg.some((v) => v !== 0)
  const moved = s.shift_mm.some((v) => v !== 0)
  return (
    <>
      <b>
        {kind} {forms[s.form]}
      </b>
      , {cells(s)} cells{turned && ', turned'}
      {moved && (turned ? ' and shifted' : ', shifted')}
    </>
  )
}

const withStructure = (change: Partial<S>) => (r: Recipe): Recipe => ({ ...r, structure: { ...r.structure, ...change } })
const put = (list: readonly number[], i: number, v: number) => list.map((old, j) => (i === j ? v : old)) as Triple

type Triple = [number, number, number]

/** Three typed values, for x, y and z. */
function Three({ label, unit, values, onSet }: { label: string; unit: string; values: readonly number[]; onSet: (v: Triple) => void }) {
  return (
    <div className="three">
      <span className="label">
        {label} <small className="muted">{unit}</small>
      </span>
      {['X', 'Y', 'Z'].map((axis, i) => (
        <InputNumber
          key={`${axis} ${values[i]}`}
          size="small"
          aria-label={`${label} ${axis}, ${unit}`}
          prefix={<span className="muted">{axis}</span>}
          controls={false}
          defaultValue={values[i]}
          onBlur={(e) => {
            const v = Number.parseFloat(e.target.value)
            if (Number.isFinite(v) && v !== values[i]) onSet(put(values, i, v))
          }}
          onPressEnter={(e) => e.currentTarget.blur()}
        />
      ))}
    </div>
  )
}

export function Structure() {
  const { project, recipe, handle } = useBench()
  const uneven = recipe ? new Set(recipe.structure.cell_mm).size > 1 : false
  const [perAxis, setPerAxis] = useState(uneven)
  if (!project || !recipe) return null
  const s = recipe.structure
  const { ranges } = project
  const even = (v: number) => withStructure({ cell_mm: [v, v, v] })
  const [x = 1] = s.cell_mm
  return (
    <>
      <div className="kinds" role="radiogroup" aria-label="Surface">
        {kinds.map((k) => (
          <button key={k.value} role="radio" aria-checked={s.kind === k.value} className="kind" onClick={() => s.kind !== k.value && edit(withStructure({ kind: k.value }))}>
            {k.label}
          </button>
        ))}
      </div>
      <Segmented<S['form']>
        block
        aria-label="Form"
        value={s.form}
        options={[
          { value: 'walls', label: 'Walls' },
          { value: 'network', label: 'Network' },
          { value: 'other_network', label: 'Other side' },
        ]}
        onChange={(form) => edit(withStructure({ form }))}
      />
      {perAxis ? (
        ['X', 'Y', 'Z'].map((axis, i) => (
          <Value
            key={axis}
            label={`Cell along ${axis}`}
            value={s.cell_mm[i] ?? x}
            unit="mm"
            digits={1}
            range={ranges.cell_mm}
            onMove={(v) => preview(withStructure({ cell_mm: put(s.cell_mm, i, v) }))}
            onSet={(v) => edit(withStructure({ cell_mm: put(s.cell_mm, i, v) }))}
          />
        ))
      ) : (
        <Value label="Cell size" value={x} unit="mm" digits={1} range={ranges.cell_mm} onMove={(v) => preview(even(v))} onSet={(v) => edit(even(v))} />
      )}
      <div className="line">
        <span className="label">Size for each axis</span>
        <Switch
          size="small"
          aria-label="Size for each axis"
          checked={perAxis}
          onChange={(on) => {
            setPerAxis(on)
            if (!on && uneven) edit(even(x))
          }}
        />
      </div>
      <div className="line">
        <span className="label">Handle in the picture</span>
        <Segmented<Handle>
          size="small"
          aria-label="Handle in the picture"
          value={handle}
          onChange={(h) => useBench.setState({ handle: h })}
          options={[
            { value: null as unknown as string, label: 'Off' },
            { value: 'shift', label: 'Shift' },
            { value: 'turn', label: 'Turn' },
          ] as { value: Handle; label: string }[]}
        />
      </div>
      <Three label="Shift" unit="mm" values={s.shift_mm} onSet={(shift_mm) => edit(withStructure({ shift_mm }))} />
      <Three label="Turn" unit="°" values={s.rotation_deg} onSet={(rotation_deg) => edit(withStructure({ rotation_deg }))} />
    </>
  )
}
