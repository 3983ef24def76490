import { withStructure, type Choice, type S } from './structureRules'

export type Course = NonNullable<S['course']>

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
