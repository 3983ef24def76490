import { firstClean, hasRows, rowsOf, withPattern, type Pattern } from './patternRules'
import type { S } from './structureRules'

type Bent = NonNullable<ReturnType<typeof rowsOf>>['course']
/** Rows that bend, or run straight. */
export type Course = Bent | { course: 'straight' }

export const straight: Course = { course: 'straight' }
export const courseOf = (s: S): Course => rowsOf(s.pattern)?.course ?? straight

/** First values of each course: counts follow the cell size. */
export const firstCourse: Record<Course['course'], Course> = {
  straight,
  polar: { course: 'polar', counts: [0, 0, 0] },
  between: { course: 'between', from: [], to: [], layers: 0 },
}

/** A pattern with another course of its rows. */
export function coursed(p: Pattern, course: Course): Pattern {
  if (!hasRows(p)) return p
  if (course.course === 'straight') return { ...p, rows: null }
  return { ...p, rows: { course, clean: p.rows?.clean ?? firstClean } }
}

export const withCourse = (course: Course) => withPattern((p) => coursed(p, course))
