import { Button, Input, InputNumber, Segmented, Switch } from 'antd'
import { useState } from 'react'
import type { KeepSolid, Recipe } from '../../api/client'
import { plain } from '../../shared/format'
import { edit, preview, useBench } from '../state'
import { Value } from './Value'

export function zonesSentence(r: Recipe) {
  const n = r.zones.keep_solid.length
  const skin = r.zones.skin_mm
  return (
    <>
      Filled whole, {skin > 0 ? <b>skin {plain(skin)} mm</b> : 'no skin'}
      {n > 0 && (
        <>
          , <b>{n === 1 ? '1 zone' : `${n} zones`}</b> kept solid
        </>
      )}
    </>
  )
}

const withZones = (change: (z: Recipe['zones']) => Recipe['zones']) => (r: Recipe) => ({ ...r, zones: change(r.zones) })
const withSkin = (skin_mm: number) => withZones((z) => ({ ...z, skin_mm }))

export function Zones() {
  const { project, recipe } = useBench()
  const [open, setOpen] = useState<number | null>(null)
  if (!project || !recipe) return null
  const { skin_mm, keep_solid } = recipe.zones
  const most = project.ranges.skin_mm[1] ?? 1
  const set = (i: number, k: KeepSolid) => edit(withZones((z) => ({ ...z, keep_solid: z.keep_solid.map((old, j) => (i === j ? k : old)) })))

  const add = () => {
    const { min_mm, size_mm } = project.part
    const [x = 0, y = 0, z = 0] = min_mm
    const [w = 1, d = 1, h = 1] = size_mm
    const radius = Number(((Math.min(w, d, h) * 3) / 16).toPrecision(2))
    const post: KeepSolid = { name: `Post ${keep_solid.length + 1}`, base_mm: [x + w / 2, y + d / 2, z - 1], axis_mm: [0, 0, h + 2], radius_mm: radius }
    edit(withZones((zones) => ({ ...zones, keep_solid: [...zones.keep_solid, post] })))
    setOpen(keep_solid.length)
  }

  return (
    <>
      <div className="line">
        <span className="label">Skin all around</span>
        <Switch aria-label="Skin all around" size="small" checked={skin_mm > 0} onChange={(on) => edit(withSkin(on ? Number((most / 6).toPrecision(1)) : 0))} />
      </div>
      {skin_mm > 0 && (
        <Value label="Skin depth" value={skin_mm} unit="mm" range={[0, most]} onMove={(v) => preview(withSkin(Math.max(v, most / 200)))} onSet={(v) => edit(withSkin(v))} />
      )}
      <h3>Kept solid</h3>
      <ul className="zonelist">
        {keep_solid.map((k, i) => (
          <li key={i}>
            <div className="zonerow">
              <button className="rowbutton" aria-expanded={open === i} onClick={() => setOpen(open === i ? null : i)}>
                <i className="solid" /> {k.name}
                <span className="figure muted">⌀ {plain(2 * k.radius_mm)} mm</span>
              </button>
              <button
                className="plainbutton"
                aria-label={`Remove ${k.name}`}
                title="Remove"
                onClick={() => {
                  setOpen(null)
                  edit(withZones((z) => ({ ...z, keep_solid: z.keep_solid.filter((_, j) => j !== i) })))
                }}
              >
                ×
              </button>
            </div>
            {open === i && <Cylinder key={JSON.stringify(k)} value={k} onSet={(v) => set(i, v)} />}
          </li>
        ))}
      </ul>
      {keep_solid.length === 0 && <p className="muted">Nothing yet: the lattice takes the whole part.</p>}
      <Button size="small" onClick={add}>
        Keep a cylinder solid
      </Button>
    </>
  )
}

/** Place and size of a kept cylinder, along one of the axes or as it was made. */
function Cylinder({ value, onSet }: { value: KeepSolid; onSet: (k: KeepSolid) => void }) {
  const length = Math.hypot(...value.axis_mm)
  const along = value.axis_mm.findIndex((v) => Math.abs(Math.abs(v) - length) < 1e-9)
  const numbers: [string, number, (v: number) => KeepSolid][] = [
    ...['X', 'Y', 'Z'].map((name, i): [string, number, (v: number) => KeepSolid] => [
      `${name} of its base`,
      value.base_mm[i] ?? 0,
      (v) => ({ ...value, base_mm: value.base_mm.map((b, j) => (i === j ? v : b)) as KeepSolid['base_mm'] }),
    ]),
    ['Length', length, (v) => ({ ...value, axis_mm: value.axis_mm.map((a) => (a * v) / length) as KeepSolid['axis_mm'] })],
    ['Diameter', 2 * value.radius_mm, (v) => ({ ...value, radius_mm: v / 2 })],
  ]
  return (
    <div className="cylinder">
      <Input size="small" aria-label="Name of the zone" maxLength={60} defaultValue={value.name} onBlur={(e) => e.target.value && e.target.value !== value.name && onSet({ ...value, name: e.target.value })} />
      <div className="line">
        <span className="label">Along</span>
        <Segmented
          size="small"
          aria-label="Along"
          value={along}
          onChange={(a) => onSet({ ...value, axis_mm: [0, 1, 2].map((i) => (i === a ? length : 0)) as KeepSolid['axis_mm'] })}
          options={['X', 'Y', 'Z'].map((label, i) => ({ label, value: i }))}
        />
      </div>
      {numbers.map(([label, v, make]) => (
        <div className="line" key={label}>
          <span className="label">{label}</span>
          <InputNumber
            size="small"
            aria-label={label}
            controls={false}
            suffix="mm"
            defaultValue={Number(v.toFixed(3))}
            style={{ width: 96 }}
            onBlur={(e) => {
              const n = Number.parseFloat(e.target.value)
              if (Number.isFinite(n) && Math.abs(n - v) > 5e-4) onSet(make(n))
            }}
            onPressEnter={(e) => e.currentTarget.blur()}
          />
        </div>
      ))}
    </div>
  )
}
