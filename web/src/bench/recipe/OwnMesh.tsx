import { Button } from 'antd'
import { api } from '../../api/client'
import { count } from '../../shared/format'
import { edit } from '../state'
import { useFilling, withFilling } from './filling'
import { FromFile } from './FromFile'
import { keptOf, withNext } from './patternRules'
import type { Triple } from './structureRules'

/** A cell that comes from a file as a solid. */
export function OwnMesh() {
  const f = useFilling()
  if (!f) return null
  const { pattern } = f.filling.structure
  const used = pattern.kind === 'own_mesh'
  const kept = used ? pattern : keptOf(f.recipe, 'own_mesh')
  const own = kept?.own
  const read = async (file: File) => {
    const found = await api.cell(file)
    // A file without a unit may be far too small or large for the part: its proportions stay.
    const [least = 0, most = Infinity] = f.project.ranges.cell_mm
    const larger = Math.max(1, least / Math.min(...found.cell_mm))
    const scale = larger * Math.min(1, most / (larger * Math.max(...found.cell_mm)))
    const cell_mm = found.cell_mm.map((v) => v * scale) as Triple
    edit((r) =>
      withFilling((now) => ({
        structure: { ...now.structure, cell_mm },
        thicken: { lead: 'thickness', thickness_mm: found.thickness_mm * scale },
      }))(withNext({ kind: 'own_mesh', own: found.own })(r)),
    )
  }
  const apart = ['x', 'y', 'z'].filter((_, i) => own?.apart[i])
  return (
    <>
      <FromFile
        title={own ? own.name : 'A cell as a solid'}
        detail={
          own
            ? `${count(own.triangles.length)} triangles, ` +
              (apart.length ? 'some sides stay apart' : 'meets itself on all sides')
            : 'the mesh of one cell, closed'
        }
        label="File of a cell"
        button={own ? 'Another file' : 'Choose a file'}
        read={read}
      />
      {own && apart.length > 0 && (
        <p className="remark">
          Along {apart.join(' and ')} the cell does not reach its neighbours.
        </p>
      )}
      {kept && !used && (
        <Button size="small" onClick={() => edit(withNext(kept))}>
          Use this cell
        </Button>
      )}
    </>
  )
}
