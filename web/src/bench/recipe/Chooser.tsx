import { Segmented } from 'antd'
import { useState } from 'react'
import { edit, pick, useBench } from '../state'
import { fillingOf, useFilling } from './filling'
import { OwnMesh } from './OwnMesh'
import { OwnStruts } from './OwnStruts'
import {
  choiceOf,
  families,
  pictureOf,
  useChoices,
  withStructure,
  type Family,
} from './structureRules'

/** Every kind of a family as a picture of itself, with this recipe's cell size and thickness. */
export function Chooser() {
  const f = useFilling()
  const choices = useChoices()
  const chosen = f && choiceOf(choices, f.filling.structure.kind)
  const [looked, look] = useState<Family | null>(null)
  if (!f || !chosen) return null
  const family = looked ?? chosen.family
  const saved = fillingOf(f.project.recipe, f.at)
  // Pictures follow what is saved: while a value moves they would only flicker.
  const thickness = f.found?.thickness_mm ?? Math.min(...saved.structure.cell_mm) / 8
  return (
    <>
      <Segmented<Family>
        block
        size="small"
        aria-label="Family of structures"
        value={family}
        options={families}
        onChange={look}
      />
      <div className="kinds" role="radiogroup" aria-label="Kind of structure">
        {choices
          .filter((c) => c.family === family && !c.given)
          .map((c) => (
            <button
              key={c.kind}
              role="radio"
              aria-checked={c.kind === chosen.kind}
              className="kind"
              onClick={() => {
                if (c.kind === chosen.kind) return
                // Faces that were being picked for this kind mean nothing to the next.
                if (useBench.getState().picking) void pick(null)
                edit(withStructure({ kind: c.kind }))
              }}
            >
              <img src={pictureOf(c.kind, saved, thickness)} alt="" width={52} height={52} />
              {/* A long word breaks where it is spoken apart. */}
              <span>{c.title.replace('dodecahedron', 'dodeca\u00adhedron')}</span>
            </button>
          ))}
      </div>
      {family === 'cells' && (
        <>
          <OwnMesh />
          <OwnStruts />
        </>
      )}
    </>
  )
}
