import { area, count, size, volume } from '../../shared/format'
import { useBench } from '../state'
import { Bodies } from './Bodies'
import { Health } from './Health'
import { OwnShapeFields } from './OwnShapeFields'
import { ShellFields } from './ShellFields'
import { StandFields } from './StandFields'

export function PartSentence() {
  const p = useBench((b) => b.project)
  if (!p) return null
  return (
    <>
      <b>{size(p.part.size_mm)}</b>, {volume(p.part.volume_mm3)}
      {p.part.list.length > 1
        ? `, ${p.part.list.length} bodies`
        : p.part.closed
          ? ', closed'
          : ', not closed'}
    </>
  )
}

export function PartStep() {
  const project = useBench((b) => b.project)
  if (!project) return null
  const { part } = project
  const made = project.recipe.part.shape
  const file = project.recipe.part.file?.name ?? project.part_file
  const stated = /\.(3mf|glb)$/i.test(file)
  const unit = stated
    ? 'the unit it states'
    : { mm: 'millimetres', cm: 'centimetres', m: 'metres', inch: 'inches' }[
        project.recipe.part.unit
      ]
  const facts: [string, string][] = [
    ...(made
      ? []
      : ([
          ['File', file],
          ['Read in', unit],
        ] as [string, string][])),
    ['Size', size(part.size_mm)],
    ['Volume', volume(part.volume_mm3)],
    ['Surface', area(part.area_mm2)],
    ['Triangles', count(part.triangles)],
    ['Separate pieces', count(part.bodies)],
  ]
  return (
    <>
      <OwnShapeFields />
      <ShellFields />
      <Bodies />
      <dl className="facts">
        {facts.map(([k, v]) => (
          <div key={k}>
            <dt>{k}</dt>
            <dd title={v}>{v}</dd>
          </div>
        ))}
        <div>
          <dt>Surface closed</dt>
          <dd className={part.closed ? '' : 'amber'}>{part.closed ? 'yes' : 'no'}</dd>
        </div>
      </dl>
      {part.defects.map((d) => (
        <p key={d} className="remark">
          {d}.
        </p>
      ))}
      {part.changes.map((c) => (
        <p key={c} className="remark done">
          {c}.
        </p>
      ))}
      <Health />
      <StandFields />
      <a className="textlink" href={`/api/projects/${project.id}/part`}>
        {made ? 'Save the part as STL' : 'Save the part as it came'}
      </a>
    </>
  )
}
