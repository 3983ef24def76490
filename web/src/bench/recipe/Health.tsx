import { Switch } from 'antd'
import { useQuery } from '@tanstack/react-query'
import { api, type Recipe } from '../../api/client'
import { edit, useBench } from '../state'
import { CheckRow } from './Checks'
import { NumberLine } from './NumberLine'

type Mend = Recipe['part']['mend']

const withMend = (change: Partial<Mend>) => (r: Recipe) => ({ ...r, part: { ...r.part, mend: { ...r.part.mend, ...change } } })

/** What is wrong with the part, where, and what can be mended. The files stay as they are. */
export function Health() {
  const { project, recipe } = useBench()
  const id = project?.id ?? ''
  const part = project && JSON.stringify([project.recipe.part, project.part])
  const health = useQuery({ queryKey: ['health', id, part], queryFn: () => api.health(id), enabled: id !== '' })
  if (!project || !recipe) return null
  const { mend } = recipe.part
  const found = (what: string) => health.data?.find((c) => c.id === what && c.verdict !== 'pass')
  const longest = Math.max(...project.part.size_mm)
  return (
    <>
      <ul className="checks" aria-label="Health of the part">
        {health.data?.map((c) => (
          <CheckRow key={c.id} check={c} withHint />
        ))}
      </ul>
      {(mend.holes_mm > 0 || found('holes')) && (
        <>
          <div className="line">
            <span className="label">Close holes</span>
            <Switch size="small" aria-label="Close holes" checked={mend.holes_mm > 0} onChange={(on) => edit(withMend({ holes_mm: on ? Number(longest.toPrecision(2)) : 0 }))} />
          </div>
          {mend.holes_mm > 0 && <NumberLine label="Of a span up to" unit="mm" value={mend.holes_mm} onSet={(v) => edit(withMend({ holes_mm: v }))} />}
        </>
      )}
      {(mend.crumbs_mm3 > 0 || found('crumbs')) && (
        <>
          <div className="line">
            <span className="label">Remove crumbs</span>
            <Switch size="small" aria-label="Remove crumbs" checked={mend.crumbs_mm3 > 0} onChange={(on) => edit(withMend({ crumbs_mm3: on ? Number((project.part.volume_mm3 * 1e-4).toPrecision(2)) : 0 }))} />
          </div>
          {mend.crumbs_mm3 > 0 && <NumberLine label="Of a volume below" unit="mm³" value={mend.crumbs_mm3} onSet={(v) => edit(withMend({ crumbs_mm3: v }))} />}
        </>
      )}
      {(mend.rewrap_mm > 0 || found('self_crossing')) && (
        <>
          <div className="line">
            <span className="label">Resolve crossings</span>
            <Switch size="small" aria-label="Resolve crossings" checked={mend.rewrap_mm > 0} onChange={(on) => edit(withMend({ rewrap_mm: on ? Number((longest / 250).toPrecision(1)) : 0 }))} />
          </div>
          {mend.rewrap_mm > 0 && <NumberLine label="Seen at a step of" unit="mm" value={mend.rewrap_mm} onSet={(v) => edit(withMend({ rewrap_mm: v }))} />}
        </>
      )}
    </>
  )
}
