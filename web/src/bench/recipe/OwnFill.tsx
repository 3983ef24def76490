import { Button } from 'antd'
import type { Zone } from '../../api/client'
import { edit, useBench } from '../state'
import { SwitchLine } from './Lines'
import { NumberLine } from './NumberLine'
import { kindOf } from './patternRules'
import { cells, choiceOf, useChoices } from './structureRules'
import { withZone } from './zoneRules'

/** A filled zone's own structure, and how it passes into what is around it. */
export function OwnFill({ index, zone }: { index: number; zone: Zone }) {
  const recipe = useBench((s) => s.recipe)
  const choices = useChoices()
  const linked = useBench((s) => s.picture?.info.linked)
  if (!recipe) return null
  const { own } = zone
  const choice = own ? choiceOf(choices, kindOf(own.structure.pattern)) : undefined
  const { structure, thicken, joins, gradings } = recipe
  const here = linked?.own[index]
  // Walls and foams end where the border is; only struts have ends.
  const strutted = own && here?.structure && !here.walls && own.blend_mm === 0
  const set = (next: Zone['own']) => edit(withZone(index, (z) => ({ ...z, own: next })))
  return (
    <>
      <SwitchLine
        label="A structure of its own"
        checked={!!own}
        onChange={(on) =>
          set(on ? { structure, thicken, joins, gradings, blend_mm: 0 } : undefined)
        }
      />
      {own && (
        <>
          <div className="line">
            <span className="label">
              {choice?.title}, {cells(own.structure)}
            </span>
            <Button
              size="small"
              onClick={() =>
                useBench.setState({ step: 'structure', filled: index, chosen: null, picking: null })
              }
            >
              Choose
            </Button>
          </div>
          <NumberLine
            label="Passes over its border in"
            unit="mm"
            value={own.blend_mm}
            onSet={(blend_mm) => set({ ...own, blend_mm })}
          />
          <p className="muted small">
            {own.blend_mm > 0
              ? 'The two structures flow into each other over that width.'
              : 'At 0 the border is sharp.'}
          </p>
          {strutted && (
            <>
              <SwitchLine
                label="Struts meet those beyond the border"
                checked={!own.loose_ends}
                onChange={(on) => set({ ...own, loose_ends: on ? undefined : true })}
              />
              <p className="muted small">
                {own.loose_ends
                  ? 'Struts of both sides end at the border.'
                  : here.ties > 0
                    ? `${here.ties} short struts along the border join their ends.`
                    : 'None ends within reach of another.'}
              </p>
            </>
          )}
        </>
      )}
    </>
  )
}
