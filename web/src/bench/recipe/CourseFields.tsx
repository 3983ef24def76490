import { Button } from 'antd'
import { edit } from '../state'
import { courseFaces, courseOf, firstCourse, withCourse, type Course } from './courseRules'
import { FacePick } from './FacePick'
import { useFilling } from './filling'
import { ChoiceLine } from './Lines'
import { NumberLine } from './NumberLine'
import { put } from './structureRules'

/** How rows of strut cells run, and what they follow. */
export function CourseFields() {
  const f = useFilling()
  if (!f) return null
  const s = f.filling.structure
  const course = courseOf(s)
  const rows = f.found?.structure?.rows ?? null
  // A count that nobody gave is the one that was found.
  const shown = (given: number, n: number) => given || (rows?.[n] ?? 0)
  const whole = (v: number) => Math.max(0, Math.round(v))
  return (
    <>
      <ChoiceLine<Course['course']>
        label="Rows of cells"
        value={course.course}
        options={[
          { value: 'straight', label: 'Straight' },
          { value: 'polar', label: 'Polar' },
          { value: 'between', label: 'Face to face' },
        ]}
        onChange={(c) => edit(withCourse(firstCourse[c]))}
      />
      {course.course === 'polar' && (
        <>
          <p className="muted small">{course.about ? 'Around the axis of the face picked:' : 'Around the axis of the largest cylinder of the part, or of the face picked:'}</p>
          <FacePick of={{ of: 'about', index: 0 }} faces={courseFaces(s, 'about') ?? []} />
          {['Outward', 'All round', 'Along the axis'].map((label, n) => (
            <NumberLine key={label} label={label} unit="cells" value={shown(course.counts[n] ?? 0, n)} onSet={(v) => edit(withCourse({ ...course, counts: put(course.counts, n, whole(v)) }))} />
          ))}
          {course.counts.some((n) => n > 0) && (
            <Button size="small" onClick={() => edit(withCourse({ ...course, counts: [0, 0, 0] }))}>
              As many as fit the cell size
            </Button>
          )}
        </>
      )}
      {course.course === 'between' && (
        <>
          {(['from', 'to'] as const).map((end) => (
            <div key={end}>
              <p className="muted small">{{ from: 'Rows begin, upright, at', to: 'and end at' }[end]} {course[end].length === 0 && { from: 'the lowest place, or at faces picked:', to: 'the highest, or at faces picked:' }[end]}</p>
              <FacePick of={{ of: end, index: 0 }} faces={course[end]} />
            </div>
          ))}
          <NumberLine label="From face to face" unit="cells" value={shown(course.layers, 2)} onSet={(v) => edit(withCourse({ ...course, layers: whole(v) }))} />
          {course.layers > 0 && (
            <Button size="small" onClick={() => edit(withCourse({ ...course, layers: 0 }))}>
              As many as fit the cell size
            </Button>
          )}
        </>
      )}
    </>
  )
}
