import type { Recipe } from '../../api/client'
import { edit } from '../state'
import { useFilling } from './filling'
import { ChoiceLine } from './Lines'
import { withJoins } from './structureRules'
import { Value } from './Value'

type Section = NonNullable<Recipe['joins']['section']>

const round: Section = { shape: 'round' }

/** What struts look like where they are cut across: round, or as wide as the thickness and higher. */
export function SectionFields({ width }: { width: number }) {
  const section = useFilling()?.filling.joins.section ?? round
  const rectangular = (change: { taller_mm?: number; turn_deg?: number }) =>
    withJoins({
      section: { taller_mm: 0, turn_deg: 0, ...section, ...change, shape: 'rectangular' },
    })
  return (
    <>
      <ChoiceLine<Section['shape']>
        label="Section"
        value={section.shape}
        options={[
          { value: 'round', label: 'Round' },
          { value: 'rectangular', label: 'Rectangular' },
        ]}
        onChange={(shape) =>
          edit(shape === 'round' ? withJoins({ section: round }) : rectangular({}))
        }
      />
      {section.shape === 'rectangular' && (
        <>
          <Value
            label="Height"
            value={width + section.taller_mm}
            unit="mm"
            range={[Number(width.toFixed(2)), Number((4 * width).toFixed(2))]}
            change={(v) => rectangular({ taller_mm: Math.max(0, Number((v - width).toFixed(3))) })}
          />
          <Value
            label="Section turned"
            value={section.turn_deg}
            unit="°"
            digits={0}
            range={[-90, 90]}
            change={(v) => rectangular({ turn_deg: v })}
          />
        </>
      )}
    </>
  )
}
