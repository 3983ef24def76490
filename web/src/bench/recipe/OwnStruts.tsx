import { Button } from 'antd'
import { useRef, useState } from 'react'
import { api, Refused } from '../../api/client'
import { FileField } from '../../shared/FileField'
import { count } from '../../shared/format'
import { edit } from '../state'
import { useFilling, withFilling } from './filling'

/** Struts that come from a file. */
export function OwnStruts() {
  const picker = useRef<HTMLInputElement>(null)
  const f = useFilling()
  const [refused, setRefused] = useState<string | null>(null)
  if (!f) return null
  const own = f.filling.structure.own_struts
  const read = async (file: File | undefined) => {
    if (!file) return
    setRefused(null)
    try {
      const found = await api.struts(file)
      const [least, most] = f.project.ranges.cell_mm
      const cell = Math.min(Math.max(found.cell_mm, least ?? 0), most ?? found.cell_mm)
      edit(withFilling((now) => ({ structure: { ...now.structure, kind: 'own_struts', own_struts: found.own, cell_mm: [cell, cell, cell] }, thicken: { lead: 'thickness', thickness_mm: Math.min(found.thickness_mm, cell) } })))
    } catch (e) {
      if (!(e instanceof Refused)) throw e
      setRefused(`${e.message} ${e.hint}`)
    }
  }
  return (
    <>
      <div className="line">
        <span className="label">
          {own ? own.name : 'Own struts'}
          <small>{own ? `${count(own.struts.length)} struts, ${count(f.found?.structure?.struts ?? 0)} in the part` : 'a 3MF beam lattice'}</small>
        </span>
        <Button size="small" onClick={() => picker.current?.click()}>
          {own ? 'Another file' : 'Choose a file'}
        </Button>
      </div>
      {refused && <p className="remark bad">{refused}</p>}
      <FileField picker={picker} label="File of struts" accept=".3mf" onFiles={([file]) => void read(file)} />
    </>
  )
}
