import { Input, Segmented, type InputRef } from 'antd'
import { useEffect, useRef, useState } from 'react'
import { Refused } from '../../api/client'
import { edit, pick, useBench } from '../state'
import type { fillingOf } from './filling'
import { OwnMesh } from './OwnMesh'
import { OwnStruts } from './OwnStruts'
import { chosen } from './patternRules'
import {
  families,
  pictureOf,
  useChoices,
  type Choice,
  type Family,
  type Kind,
} from './structureRules'

/** The kind that was chosen last: an answer for an earlier one comes too late. */
let last: Kind | null = null

/** Puts another kind in the place of the one that is worked on. */
async function choose(kind: Kind) {
  const { recipe } = useBench.getState()
  if (!recipe) return
  last = kind
  try {
    const change = await chosen(kind, recipe)
    if (last === kind) edit(change)
  } catch (e) {
    if (!(e instanceof Refused)) throw e
    useBench.setState({ problem: { message: e.message, hint: e.hint } })
  }
}

/** Every kind as a picture of itself, with this recipe's cell size and thickness, over the view. */
export function KindSheet({
  chosen: now,
  saved,
  thickness,
  onClose,
}: {
  chosen: Choice
  saved: ReturnType<typeof fillingOf>
  thickness: number
  onClose: () => void
}) {
  const choices = useChoices()
  const [family, look] = useState<Family>(now.family)
  const [sought, seek] = useState('')
  const words = sought.trim().toLowerCase()
  const field = useRef<InputRef>(null)
  // It was opened to choose: typing begins at once.
  useEffect(() => field.current?.focus({ preventScroll: true }), [])
  useEffect(() => {
    const keys = (e: KeyboardEvent) => {
      if (e.key === 'Escape') onClose()
    }
    window.addEventListener('keydown', keys)
    return () => window.removeEventListener('keydown', keys)
  }, [onClose])
  const shown = choices.filter(
    (c) => !c.given && (words ? c.title.toLowerCase().includes(words) : c.family === family),
  )
  return (
    <section className="kind-sheet" aria-label="All kinds of structures">
      <div className="row between">
        <h3>Kinds of structures</h3>
        <button
          className="plainbutton"
          aria-label="Close the kinds of structures"
          onClick={onClose}
        >
          Close
        </button>
      </div>
      <Input
        size="small"
        allowClear
        ref={field}
        aria-label="Find a kind of structure"
        placeholder="Find by name"
        value={sought}
        onChange={(e) => seek(e.target.value)}
      />
      {!words && (
        <Segmented<Family>
          block
          size="small"
          aria-label="Family of structures"
          value={family}
          options={families}
          onChange={look}
        />
      )}
      <div className="kinds" role="radiogroup" aria-label="Kind of structure">
        {shown.map((c) => (
          <button
            key={c.kind}
            role="radio"
            aria-checked={c.kind === now.kind}
            className="kind"
            onClick={() => {
              if (c.kind === now.kind) return
              // Faces that were being picked for this kind mean nothing to the next.
              if (useBench.getState().picking) void pick(null)
              void choose(c.kind)
            }}
          >
            <img src={pictureOf(c.kind, saved, thickness)} alt="" width={64} height={64} />
            {/* A long word breaks where it is spoken apart. */}
            <span>{c.title.replace('dodecahedron', 'dodeca\u00adhedron')}</span>
          </button>
        ))}
      </div>
      {shown.length === 0 && <p className="muted">No kind has this in its name.</p>}
      {!words && family === 'cells' && (
        <>
          {now.kind !== 'own_mesh' && <OwnMesh />}
          {now.kind !== 'own_struts' && <OwnStruts />}
        </>
      )}
    </section>
  )
}
