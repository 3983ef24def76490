import { useQuery } from '@tanstack/react-query'
import { Fragment } from 'react'
import { api, type BodyHealth, type Project, type Recipe } from '../../api/client'
import { edit, showMoved, useBench } from '../state'
import { CheckRow } from './Checks'
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
const mendings: {
  of: keyof Mend
  found?: string
  title: string
  what: string
  unit: string
  first: (part: Project['part']) => number
}[] = [
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
  const { project, recipe, moved } = useBench()
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
  return (
    <>
      <ul className="checks" aria-label="Health of the part">
        {health.data?.whole.map((c) => (
          <CheckRow key={c.id} check={c} withHint />
        ))}
      </ul>
      {health.data?.bodies.map((b, i) => (
        <FoundInBody key={i} of={b} />
      ))}
      {mendings.map(({ of, found, title, what, unit, first }) => {
        if (
          found &&
          mend[of] <= 0 &&
          !health.data?.whole.some((c) => c.id === found && c.verdict !== 'pass')
        )
          return null
        return (
          <Fragment key={of}>
            <SwitchLine
              label={title}
              checked={mend[of] > 0}
              onChange={(on) => edit(withMend({ [of]: on ? first(project.part) : 0 }))}
            />
            {mend[of] > 0 && (
              <NumberLine
                label={what}
                unit={unit}
                value={mend[of]}
                onSet={(v) => edit(withMend({ [of]: v }))}
              />
            )}
          </Fragment>
        )
      })}
      {(mend.even_mm > 0 || mend.fewer_mm > 0 || mend.fewer_to > 0 || mend.rewrap_mm > 0) && (
        <SwitchLine
          label="Show how far it moved"
          checked={moved !== null}
          onChange={(on) => void showMoved(on)}
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
