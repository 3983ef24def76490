import { Select } from 'antd'
import { useBench } from '../state'
import { useFilling } from './filling'
import { ownOf } from './zoneRules'

/** Which filling is worked on, where zones have their own. */
export function FillingChoice() {
  const f = useFilling()
  const own =
    f?.recipe.zones.list.flatMap((z, i) =>
      ownOf(f.recipe, i) ? [{ value: i, label: z.name }] : [],
    ) ?? []
  if (!f || own.length === 0) return null
  const rest = -1
  return (
    <div className="line">
      <span className="label">Fills</span>
      <Select
        size="small"
        aria-label="Fills"
        style={{ width: 190 }}
        value={f.at ?? rest}
        options={[{ value: rest, label: 'The rest of the part' }, ...own]}
        onChange={(at) => useBench.setState({ filled: at === rest ? null : at })}
      />
    </div>
  )
}
