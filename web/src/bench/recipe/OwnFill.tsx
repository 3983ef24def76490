import { Button } from 'antd'
import type { Zone } from '../../api/client'
import { edit, useBench } from '../state'
import { SwitchLine } from './Lines'
import { NumberLine } from './NumberLine'
import { cells, choiceOf, useChoices } from './structureRules'
import { withZone } from './zoneRules'

/** A filled zone's own structure, and how it passes into what is around it. */
export function OwnFill({ index, zone }: { index: number; zone: Zone }) {
  const recipe = useBench((s) => s.recipe)
  const choices = useChoices()
  if (!recipe) return null
  const { own } = zone
  const choice = own ? choiceOf(choices, own.structure.kind) : undefined
  const { structure, thicken, joins } = recipe
  const set = (next: Zone['own']) => edit(withZone(index, (z) => ({ ...z, own: next })))
  return (
    <>
      <SwitchLine label="A structure of its own" checked={!!own} onChange={(on) => set(on ? { structure, thicken, joins, blend_mm: 0 } : undefined)} />
      {own && (
        <>
          <div className="line">
            <span className="label">
              {choice?.title}, {cells(own.structure, choice)}
            </span>
            <Button size="small" onClick={() => useBench.setState({ step: 'structure', filled: index, chosen: null, picking: null })}>
              Choose
            </Button>
          </div>
          <NumberLine label="Passes over its border in" unit="mm" value={own.blend_mm} onSet={(blend_mm) => set({ ...own, blend_mm })} />
          <p className="muted small">{own.blend_mm > 0 ? 'The two structures flow into each other over that width.' : 'At 0 the border is sharp.'}</p>
        </>
      )}
    </>
  )
}
