import { Button } from 'antd'
import { useEffect, useRef, useState } from 'react'
import { useBench } from '../state'
import { fillingOf, useFilling } from './filling'
import { KindSheet } from './KindSheet'
import { OwnMesh } from './OwnMesh'
import { OwnStruts } from './OwnStruts'
import { kindOf } from './patternRules'
import { choiceOf, families, pictureOf, useChoices } from './structureRules'

/** The chosen kind as a picture of itself; all others are in a sheet that opens beside it. */
export function Chooser() {
  const f = useFilling()
  const choices = useChoices()
  const [open, setOpen] = useState(false)
  const button = useRef<HTMLButtonElement>(null)
  // Faces and handles are picked in the view, which the sheet covers.
  const covered = useBench((b) => b.picking !== null || b.handle !== null)
  useEffect(() => {
    if (covered) setOpen(false)
  }, [covered])
  const chosen = f && choiceOf(choices, kindOf(f.filling.structure.pattern))
  if (!f || !chosen) return null
  const saved = fillingOf(f.project.recipe, f.at)
  // Pictures follow what is saved: while a value moves they would only flicker.
  const thickness = f.found?.thickness_mm ?? Math.min(...saved.structure.cell_mm) / 8
  const family = families.find((one) => one.value === chosen.family)
  const close = () => {
    setOpen(false)
    button.current?.focus()
  }
  return (
    <>
      <div className="chosen-kind">
        {chosen.given ? (
          <span className="given figure" aria-hidden>
            file
          </span>
        ) : (
          <img src={pictureOf(chosen.kind, saved, thickness)} alt="" width={56} height={56} />
        )}
        <div>
          <b>{chosen.title}</b>
          <small className="muted">{family?.label}</small>
        </div>
        <Button
          ref={button}
          size="small"
          aria-label="Change the kind of structure"
          aria-expanded={open}
          onClick={() => setOpen(!open)}
        >
          Change
        </Button>
      </div>
      {chosen.kind === 'own_mesh' && <OwnMesh />}
      {chosen.kind === 'own_struts' && <OwnStruts />}
      {open && <KindSheet chosen={chosen} saved={saved} thickness={thickness} onClose={close} />}
    </>
  )
}
