import { useQuery } from '@tanstack/react-query'
import { api, type BodyHealth, type Project, type Recipe } from '../../api/client'
import { edit, showMoved, useBench } from '../state'
import { CheckRow } from './Checks'
import { Group } from './Group'
import { SwitchLine } from './Lines'
import { NumberLine } from './NumberLine'

type Mend = Recipe['part']['mend']

const withMend = (change: Partial<Mend>) => (r: Recipe) => ({
  ...r,
  part: { ...r.part, mend: { ...r.part.mend, ...change } },
})

/**
 * What can be mended: the recipe's value, the check that asks for it (or what may be wanted of any
 * part), its words and its first value.
 */
interface Mending {
  of: keyof Mend
  found?: string
  title: string
  what: string
  unit: string
  first: (part: Project['part']) => number
}
const mendings: Mending[] = [
  {
    of: 'holes_mm',
    found: 'holes',
    title: 'Close holes',
    what: 'Of a span up to',
    unit: 'mm',
    first: (p) => Number(Math.max(...p.size_mm).toPrecision(2)),
  },
  {
    of: 'crumbs_mm3',
    found: 'crumbs',
    title: 'Remove crumbs',
    what: 'Of a volume below',
    unit: 'mm³',
    first: (p) => Number((p.volume_mm3 * 1e-4).toPrecision(2)),
  },
  {
    of: 'rewrap_mm',
    found: 'self_crossing',
    title: 'Resolve crossings',
    what: 'Seen at a step of',
    unit: 'mm',
    first: (p) => Number((Math.max(...p.size_mm) / 250).toPrecision(1)),
  },
  {
    of: 'even_mm',
    title: 'Even triangles',
    what: 'With edges of',
    unit: 'mm',
    first: (p) => Number((Math.max(...p.size_mm) / 60).toPrecision(1)),
  },
  {
    of: 'fewer_mm',
    title: 'Fewer triangles',
    what: 'Moved by at most',
    unit: 'mm',
    first: (p) => Number((Math.max(...p.size_mm) / 4000).toPrecision(1)),
  },
  {
    of: 'fewer_to',
    title: 'Down to a number of triangles',
    what: 'At most',
    unit: '',
    first: (p) => Math.max(20, Number((p.triangles / 2).toPrecision(2))),
  },
]

/** What is wrong with the part, where, and what can be mended. The files stay as they are. */
export function Health() {
  const project = useBench((b) => b.project)
  const recipe = useBench((b) => b.recipe)
  const moved = useBench((b) => b.moved)
  const id = project?.id ?? ''
  const part =
    project && JSON.stringify([project.recipe.part, project.part, project.recipe.material.name])
  const health = useQuery({
    queryKey: ['health', id, part],
    queryFn: () => api.health(id),
    enabled: id !== '',
  })
  if (!project || !recipe) return null
  const { mend } = recipe.part
  const whole = health.data?.whole ?? []
  const toLookAt = whole.filter((c) => c.verdict !== 'pass')
  const passed = whole.filter((c) => c.verdict === 'pass')
  const remade = mendings.filter((m) => !m.found && mend[m.of] > 0).map((m) => m.title)
  const asked = ({ of, found }: Mending) =>
    !!found && (mend[of] > 0 || toLookAt.some((c) => c.id === found))
  return (
    <>
      {toLookAt.length > 0 && (
        <ul className="checks" aria-label="To look at in the part">
          {toLookAt.map((c) => (
            <CheckRow key={c.id} check={c} withHint />
          ))}
        </ul>
      )}
      {health.data?.bodies.map((b, i) => (
        <FoundInBody key={i} of={b} />
      ))}
      {mendings.filter(asked).map((m) => (
        <MendLine key={m.of} of={m} value={mend[m.of]} part={project.part} />
      ))}
      {(mend.even_mm > 0 || mend.fewer_mm > 0 || mend.fewer_to > 0 || mend.rewrap_mm > 0) && (
        <SwitchLine
          label="Show how far it moved"
          checked={moved !== null}
          onChange={(on) => void showMoved(on)}
        />
      )}
      {passed.length > 0 && (
        <Group name="Health" sentence={`${passed.length} of ${whole.length} checks pass`}>
          <ul className="checks" aria-label="Health of the part">
            {passed.map((c) => (
              <CheckRow key={c.id} check={c} withHint />
            ))}
          </ul>
        </Group>
      )}
      <Group
        name="Triangles"
        sentence={remade.length > 0 ? remade.join(', ').toLowerCase() : 'as they came'}
      >
        {mendings
          .filter((m) => !m.found)
          .map((m) => (
            <MendLine key={m.of} of={m} value={mend[m.of]} part={project.part} />
          ))}
      </Group>
    </>
  )
}

/** Whether something is mended, and how far. */
function MendLine({
  of: { of, title, what, unit, first },
  value,
  part,
}: {
  of: Mending
  value: number
  part: Project['part']
}) {
  return (
    <>
      <SwitchLine
        label={title}
        checked={value > 0}
        onChange={(on) => edit(withMend({ [of]: on ? first(part) : 0 }))}
      />
      {value > 0 && (
        <NumberLine
          label={what}
          unit={unit}
          value={value}
          onSet={(v) => edit(withMend({ [of]: v }))}
        />
      )}
    </>
  )
}

/** What was found in one body of several, under its name. */
function FoundInBody({ of: { body, checks } }: { of: BodyHealth }) {
  const found = checks.filter((c) => c.verdict !== 'pass')
  return (
    <ul className="checks" aria-label={`Health of ${body}`}>
      <li className="check">
        <span className={`dot ${found.length === 0 ? 'pass' : 'look'}`} />
        <b>{body}</b>
        <span className="figure">
          {found.length === 0 ? 'nothing found' : `${found.length} to look at`}
        </span>
      </li>
      {found.map((c) => (
        <CheckRow key={c.id} check={c} withHint />
      ))}
    </ul>
  )
}
