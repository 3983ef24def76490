import { Button } from 'antd'
import { api } from '../../api/client'
import { count } from '../../shared/format'
import { edit } from '../state'
import { useFilling, withFilling } from './filling'
import { FromFile } from './FromFile'
import { cleanOf, firstClean, keptOf, withNext } from './patternRules'

/** Struts that come from a file. */
export function OwnStruts() {
  const f = useFilling()
  if (!f) return null
  const { pattern } = f.filling.structure
  const used = pattern.kind === 'own_struts'
  const kept = used ? pattern : keptOf(f.recipe, 'own_struts')
  const own = kept?.own
  const read = async (file: File) => {
    const found = await api.struts(file)
    const [least, most] = f.project.ranges.cell_mm
    const cell = Math.min(Math.max(found.cell_mm, least ?? 0), most ?? found.cell_mm)
    const clean = cleanOf(pattern) ?? firstClean
    edit((r) =>
      withFilling((now) => ({
        structure: { ...now.structure, cell_mm: [cell, cell, cell] },
        thicken: { lead: 'thickness', thickness_mm: Math.min(found.thickness_mm, cell) },
      }))(withNext({ kind: 'own_struts', own: found.own, clean })(r)),
    )
  }
  return (
    <>
      <FromFile
        title={own ? own.name : 'Own struts'}
        detail={
          own
            ? `${count(own.struts.length)} struts` +
              (used ? `, ${count(f.found?.structure?.struts ?? 0)} in the part` : '')
            : 'a 3MF beam lattice'
        }
        label="File of struts"
        accept=".3mf"
        button={own ? 'Another file' : 'Choose a file'}
        read={read}
      />
      {kept && !used && (
        <Button size="small" onClick={() => edit(withNext(kept))}>
          Use these struts
        </Button>
      )}
    </>
  )
}
