import { Button } from 'antd'
import { edit } from '../state'
import { courseOf, firstCourse, withCourse, type Course } from './courseRules'
import { FacePick } from './FacePick'
import { useFilling } from './filling'
import { followedFaces } from './followedRules'
import { ChoiceLine } from './Lines'
import { NumberLine } from './NumberLine'

/** How rows of strut cells run, and what they follow. */
export function CourseFields() {
  const f = useFilling()
  if (!f) return null
  const s = f.filling.structure
  const course = courseOf(s)
  const rows = f.found?.structure?.rows
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
          <p className="muted small">
            {course.about
              ? 'Around the axis of the face picked:'
              : 'Around the axis of the largest cylinder of the part, or of the face picked:'}
          </p>
          <FacePick of={{ of: 'about', index: 0 }} faces={followedFaces(s, 'about') ?? []} />
          <Counts
            names={['Outward', 'All round', 'Along the axis']}
            given={course.counts}
            found={rows}
            onSet={(counts) => edit(withCourse({ ...course, counts }))}
          />
        </>
      )}
      {course.course === 'between' && (
        <>
          {(['from', 'to'] as const).map((end) => (
            <div key={end}>
              <p className="muted small">
                {{ from: 'Rows begin, upright, at', to: 'and end at' }[end]}{' '}
                {course[end].length === 0 &&
                  {
                    from: 'the lowest place, or at faces picked:',
                    to: 'the highest, or at faces picked:',
                  }[end]}
              </p>
              <FacePick of={{ of: end, index: 0 }} faces={course[end]} />
            </div>
          ))}
          <Counts
            names={['From face to face']}
            given={[course.layers]}
            found={rows?.slice(2)}
            onSet={([layers = 0]) => edit(withCourse({ ...course, layers }))}
          />
        </>
      )}
    </>
  )
}

/** Numbers of cells; one that nobody gave, 0, is shown as it was found. */
function Counts({
  names,
  given,
  found,
  onSet,
}: {
  names: string[]
  given: number[]
  found?: number[] | null
  onSet: (counts: number[]) => void
}) {
  const whole = (v: number) => Math.max(0, Math.round(v))
  return (
    <>
      {names.map((name, n) => (
        <NumberLine
          key={name}
          label={name}
          unit="cells"
          value={given[n] || (found?.[n] ?? 0)}
          onSet={(v) => onSet(given.map((old, i) => (i === n ? whole(v) : old)))}
        />
      ))}
      {given.some((n) => n > 0) && (
        <Button size="small" onClick={() => onSet(given.map(() => 0))}>
          As many as fit the cell size
        </Button>
      )}
    </>
  )
}
