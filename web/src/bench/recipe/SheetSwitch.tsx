import type { Recipe } from '../../api/client'
import { edit, useBench } from '../state'
import { SwitchLine } from './Lines'
import { withThickness } from './shapeRules'

/** Makes a shape a sheet, with thickness, or a solid. */
export function SheetSwitch({
  label,
  on,
  set,
}: {
  label: string
  on: boolean
  set: (on: boolean) => (r: Recipe) => Recipe
}) {
  const first = useBench((s) => s.project?.first_shell)
  return (
    <SwitchLine
      label={label}
      checked={on}
      onChange={(open) =>
        edit((r) => (open && first ? withThickness(first)(set(open)(r)) : set(open)(r)))
      }
    />
  )
}
