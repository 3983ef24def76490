import type { FaceMark } from '../../api/client'
import { withStructure, type Choice, type S } from './structureRules'

export type Course = NonNullable<S['course']>
/** What of a course has faces of the part: the axis, where rows begin, where they end. */
export type CourseFaces = 'about' | 'from' | 'to'

/** As the core names them where they are not found any more. */
export const courseNames: Record<CourseFaces, string> = { about: 'Axis of rows', from: 'Rows begin', to: 'Rows end' }

export const straight: Course = { course: 'straight' }
export const courseOf = (s: S): Course => s.course ?? straight

/** Does a kind have rows that may bend? */
export const hasRows = (choice?: Choice) => choice?.family === 'cells' && !choice.given

/** First values of each course: counts follow the cell size. */
export const firstCourse: Record<Course['course'], Course> = {
  straight,
  polar: { course: 'polar', counts: [0, 0, 0] },
  between: { course: 'between', from: [], to: [], layers: 0 },
}

export const withCourse = (course: Course) => withStructure({ course })

/** The faces that a course has; none when it is of another kind. */
export function courseFaces(s: S, of: CourseFaces): readonly FaceMark[] | null {
  const c = courseOf(s)
  if (c.course === 'polar') return of === 'about' ? (c.about ? [c.about] : []) : null
  return c.course === 'between' && of !== 'about' ? c[of] : null
}

/** An axis has one face: the one picked last. */
export const withCourseFaces = (of: CourseFaces, faces: FaceMark[]) =>
  withStructure((s) => {
    const c = courseOf(s)
    if (c.course === 'polar' && of === 'about') return { course: { ...c, about: faces.at(-1) } }
    return c.course === 'between' && of !== 'about' ? { course: { ...c, [of]: faces } } : {}
  })
