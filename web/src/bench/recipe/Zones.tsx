import { Button, Dropdown, Segmented } from 'antd'
import { useState } from 'react'
import type { Place, Recipe, Skin } from '../../api/client'
import { plain, volume } from '../../shared/format'
import { edit, pick, useBench, type Chosen } from '../state'
import { AloneButton } from './AloneButton'
import { FacePick } from './FacePick'
import { SwitchLine } from './Lines'
import { Value } from './Value'
import { ZoneEditor } from './ZoneEditor'
import { inView } from '../view/inView'
import {
  bodyRoleNames,
  centreOf,
  extent,
  faces,
  firstZone,
  nextId,
  shapeNames,
  withPockets,
  withSkin,
  withZones,
} from './zoneRules'

export function ZonesSentence() {
  const zones = useBench((b) => b.recipe?.zones)
  if (!zones) return null
  const { list, skins, rest } = zones
  const all = skins.find((s) => !s.faces)
  const some = skins.length - (all ? 1 : 0)
  const of = (role: string) => list.filter((z) => z.role === role).length
  const parts = [
    all && `skin ${plain(all.depth_mm)} mm`,
    some > 0 && (some === 1 ? 'a skin on faces' : `${some} skins on faces`),
    of('keep_solid') > 0 && `${of('keep_solid')} kept solid`,
    of('keep_clear') > 0 && `${of('keep_clear')} kept clear`,
    of('fill') > 0 && `${of('fill')} filled`,
  ].filter(Boolean)
  return (
    <>
      {rest === 'fill' ? 'Filled' : 'Solid'}
      {parts.length > 0 ? ' but for its zones: ' : ' all through'}
      <b>{parts.join(', ')}</b>
    </>
  )
}

const is = (a: Chosen | null, b: Chosen) => a?.of === b.of && a.index === b.index

/** Opens a zone or skin, or closes it. */
function choose(what: Chosen) {
  const { chosen } = useBench.getState()
  void pick(null)
  useBench.setState({ chosen: is(chosen, what) ? null : what })
}

export function Zones() {
  const rest = useBench((b) => b.recipe?.zones.rest)
  if (!rest) return null
  return (
    <>
      <div className="line">
        <span className="label">The part is</span>
        <Segmented<'fill' | 'keep_solid'>
          size="small"
          aria-label="The part is"
          value={rest === 'fill' ? 'fill' : 'keep_solid'}
          onChange={(role) => edit(withZones((z) => ({ ...z, rest: role })))}
          options={[
            { value: 'fill', label: 'filled' },
            { value: 'keep_solid', label: 'solid' },
          ]}
        />
      </div>
      <Skins />
      <ZoneList />
      <Pockets />
    </>
  )
}

function Skins() {
  const project = useBench((b) => b.project)
  const skins = useBench((b) => b.recipe?.zones.skins)
  if (!project || !skins) return null
  const most = project.ranges.skin_mm[1] ?? 1
  const first = Number((most / 6).toPrecision(1))
  const around = skins.findIndex((s) => !s.faces)
  const set = (change: (s: Skin[]) => Skin[]) =>
    edit(withZones((z) => ({ ...z, skins: change(z.skins) })))
  const depth = (i: number, d: number) => withSkin(i, (s) => ({ ...s, depth_mm: d }))
  const slider = (i: number, label: string) => (
    <Value
      label={label}
      value={skins[i]?.depth_mm ?? first}
      unit="mm"
      range={[0, most]}
      change={(v) => depth(i, Math.max(v, most / 200))}
    />
  )
  const add = () => {
    const n = skins.filter((s) => s.faces).length + 1
    set((all) => [...all, { id: nextId(all), name: `Skin ${n}`, faces: [], depth_mm: first }])
    useBench.setState({ chosen: { of: 'skin', index: skins.length } })
    void pick('faces')
  }
  return (
    <>
      <SwitchLine
        label="Skin all around"
        checked={around >= 0}
        onChange={(on) => {
          useBench.setState({ chosen: null, picking: null })
          set((all) =>
            on
              ? [{ id: nextId(all), name: 'Skin', depth_mm: first }, ...all]
              : all.filter((s) => s.faces),
          )
        }}
      />
      {around >= 0 && slider(around, 'Skin depth')}
      <ul className="zonelist" aria-label="Skins on faces">
        {skins.map((s, i) => {
          if (!s.faces) return null
          const me: Chosen = { of: 'skin', index: i }
          return (
            <Row
              key={i}
              name={s.name}
              kind="skin"
              detail={`${faces(s.faces.length)}, ${plain(s.depth_mm)} mm`}
              of={me}
              without={withZones((all) => ({ ...all, skins: all.skins.filter((_, j) => j !== i) }))}
            >
              <div className="editor">
                <FacePick of={me} faces={s.faces} />
                {slider(i, 'Depth')}
              </div>
            </Row>
          )
        })}
      </ul>
      {around < 0 && (
        <Button size="small" onClick={add}>
          Skin on some faces
        </Button>
      )}
    </>
  )
}

function ZoneList() {
  const project = useBench((b) => b.project)
  const recipe = useBench((b) => b.recipe)
  const picture = useBench((b) => b.picture)
  const picking = useBench((b) => b.picking)
  const locked = useBench((b) => b.locked)
  const drilling = picking === 'drain'
  const [dragged, setDragged] = useState<number | null>(null)
  if (!project || !recipe) return null
  const { list } = recipe.zones
  const taken = picture?.info.linked.zone_mm3 ?? []
  const close = () => useBench.setState({ chosen: null, filled: null, picking: null })
  const move = (from: number, to: number) => {
    close()
    edit(
      withZones((z) => {
        const next = [...z.list]
        next.splice(to, 0, ...next.splice(from, 1))
        return { ...z, list: next }
      }),
    )
  }
  const add = (shape: Place['shape']) => {
    const at = inView() ?? centreOf(project.part)
    edit(withZones((z) => ({ ...z, list: [firstZone(shape, at, project, recipe), ...z.list] })))
    useBench.setState({ chosen: { of: 'zone', index: 0 }, filled: null })
    void pick(shape === 'faces' ? 'faces' : null)
  }
  return (
    <>
      <div className="line">
        <h3>Zones</h3>
        {list.length > 1 && <span className="muted small">the upper one holds where two meet</span>}
      </div>
      <ul className="zonelist" aria-label="Zones">
        {list.map((z, i) => {
          const me: Chosen = { of: 'zone', index: i }
          return (
            <Row
              key={z.id}
              name={z.name}
              kind={z.role}
              title={`${bodyRoleNames[z.role]}, takes ${volume(taken[i] ?? 0)}`}
              detail={extent(z.place)}
              of={me}
              without={withZones((all) => ({ ...all, list: all.list.filter((_, j) => j !== i) }))}
              locked={locked.includes(z.id)}
              drag={{
                onDragStart: () => setDragged(i),
                onDragOver: (e) => dragged !== null && e.preventDefault(),
                onDrop: (e) => {
                  e.preventDefault()
                  if (dragged !== null && dragged !== i) move(dragged, i)
                  setDragged(null)
                },
                onKeyDown: (e) => {
                  const to =
                    e.altKey && e.key === 'ArrowUp'
                      ? i - 1
                      : e.altKey && e.key === 'ArrowDown'
                        ? i + 1
                        : i
                  if (to !== i && to >= 0 && to < list.length) move(i, to)
                },
              }}
            >
              <Looks id={z.id} name={z.name} placed={z.place.shape !== 'faces'} />
              <fieldset disabled={locked.includes(z.id)} className="plainset">
                <ZoneEditor index={i} zone={z} />
              </fieldset>
              <p className="muted small">
                {z.role === 'reference'
                  ? 'Shown only: it changes nothing.'
                  : `Takes ${volume(taken[i] ?? 0)} of the part.`}
              </p>
            </Row>
          )
        })}
      </ul>
      {list.length === 0 && (
        <p className="muted">
          None yet: the whole part is {recipe.zones.rest === 'fill' ? 'filled' : 'solid'}.
        </p>
      )}
      <div className="line">
        <Dropdown
          trigger={['click']}
          menu={{
            items: Object.entries(shapeNames).map(([key, label]) => ({
              key,
              label: key === 'faces' ? 'Faces with a depth' : label,
            })),
            onClick: ({ key }) => add(key as Place['shape']),
          }}
        >
          <Button size="small">Add a zone</Button>
        </Dropdown>
        <Button
          size="small"
          type={drilling ? 'primary' : 'default'}
          title="Powder and resin leave through it"
          onClick={() => {
            useBench.setState({ chosen: null })
            void pick(drilling ? null : 'drain')
          }}
        >
          {drilling ? 'Click on the part, or here to stop' : 'Drain hole'}
        </Button>
      </div>
    </>
  )
}

type Drag = Pick<
  React.HTMLAttributes<HTMLLIElement>,
  'onDragStart' | 'onDragOver' | 'onDrop' | 'onKeyDown'
>

/** Hollows of the part by the faces around them: each becomes a body, filled as the rest until it is given a role. */
function Pockets() {
  const recipe = useBench((s) => s.recipe)
  const pockets = recipe?.part.pockets ?? []
  const add = () => {
    edit(
      withPockets((all) => [
        ...all,
        { id: nextId(all), name: `Pocket ${all.length + 1}`, faces: [] },
      ]),
    )
    useBench.setState({ chosen: { of: 'pocket', index: pockets.length } })
    void pick('faces')
  }
  return (
    <>
      <ul className="zonelist" aria-label="Pockets">
        {pockets.map((p, i) => {
          const me: Chosen = { of: 'pocket', index: i }
          return (
            <Row
              key={i}
              name={p.name}
              kind="as_part"
              detail={`within ${faces(p.faces.length)}`}
              of={me}
              without={withPockets((all) => all.filter((_, j) => j !== i))}
            >
              <div className="editor">
                <FacePick of={me} faces={p.faces} />
                <p className="muted small">
                  What these faces enclose, with lids over their rims, is a body of the part: its
                  role is set in the step Part.
                </p>
              </div>
            </Row>
          )
        })}
      </ul>
      <Button
        size="small"
        title="A hollow of the part becomes a body that can be filled"
        onClick={add}
      >
        Fill a pocket of the part
      </Button>
    </>
  )
}

const toggled = (list: number[], id: number) =>
  list.includes(id) ? list.filter((n) => n !== id) : [...list, id]

/** Whether a zone is drawn, shown alone, and can be changed. */
function Looks({ id, name, placed }: { id: number; name: string; placed: boolean }) {
  const hidden = useBench((b) => b.hidden.includes(id))
  const locked = useBench((b) => b.locked.includes(id))
  return (
    <div className="looks" role="group" aria-label={`Look of ${name}`}>
      <AloneButton of={{ of: 'zone', id }} name={name} />
      {placed && (
        <button
          className="plainbutton"
          aria-pressed={hidden}
          onClick={() => useBench.setState((s) => ({ hidden: toggled(s.hidden, id) }))}
        >
          {hidden ? 'Show its outline' : 'Hide its outline'}
        </button>
      )}
      <button
        className="plainbutton"
        aria-pressed={locked}
        onClick={() => useBench.setState((s) => ({ locked: toggled(s.locked, id) }))}
      >
        {locked ? 'Unlock' : 'Lock'}
      </button>
    </div>
  )
}

/** A zone, skin or pocket in its list; `without` takes it out of the recipe. */
function Row(p: {
  of: Chosen
  name: string
  kind: string
  detail: string
  title?: string
  locked?: boolean
  without: (r: Recipe) => Recipe
  drag?: Drag
  children: React.ReactNode
}) {
  const open = useBench((s) => is(s.chosen, p.of))
  const remove = () => {
    useBench.setState({
      chosen: null,
      picking: null,
      ...(p.of.of === 'zone' ? { filled: null } : {}),
    })
    edit(p.without)
  }
  return (
    <li draggable={p.drag && !open && !p.locked} {...(p.locked ? {} : p.drag)}>
      <div className="zonerow">
        <button
          className="rowbutton"
          aria-expanded={open}
          title={p.title}
          onClick={() => choose(p.of)}
        >
          <i className={p.kind} /> <span className="name">{p.name}</span>
          <span className="figure muted">{p.detail}</span>
        </button>
        <button
          className="plainbutton"
          aria-label={`Remove ${p.name}`}
          title={p.locked ? 'Locked' : 'Remove'}
          disabled={p.locked}
          onClick={remove}
        >
          ×
        </button>
      </div>
      {open && p.children}
    </li>
  )
}
