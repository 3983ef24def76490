import type { Recipe } from '../../api/client'
import { edit, useBench } from '../state'
import { ChoiceLine, SwitchLine } from './Lines'
import { Value } from './Value'

type Shell = NonNullable<Recipe['part']['shell']>

const withShell =
  (shell: Shell | undefined) =>
  (r: Recipe): Recipe => ({ ...r, part: { ...r.part, shell } })

const sides = [
  { value: 100, label: 'In front' },
  { value: 50, label: 'Both sides' },
  { value: 0, label: 'Behind' },
]

/** Thickness for what is open. */
export function ShellFields() {
  const project = useBench((b) => b.project)
  const recipe = useBench((b) => b.recipe)
  if (!project || !recipe) return null
  const { shell } = recipe.part
  if (!shell && project.part.closed) return null
  const set = (change: Partial<Shell>) =>
    withShell({ ...(shell ?? project.first_shell), ...change })
  return (
    <>
      <SwitchLine
        label="Open surfaces are sheets"
        checked={Boolean(shell)}
        onChange={(on) => edit(withShell(on ? project.first_shell : undefined))}
      />
      {shell && (
        <>
          <Value
            label="Sheet thickness"
            value={shell.thickness_mm}
            unit="mm"
            range={[0, Number((Math.max(...project.part.size_mm) / 10).toPrecision(2))]}
            still={(v) => v <= 0}
            change={(thickness_mm) => set({ thickness_mm })}
          />
          <ChoiceLine
            label="It grows"
            value={sides.some((s) => s.value === shell.front_percent) ? shell.front_percent : ''}
            options={sides}
            onChange={(front_percent) => edit(set({ front_percent }))}
          />
        </>
      )}
    </>
  )
}
