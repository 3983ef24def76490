import type { FaceMark } from '../../api/client'
import { courseOf } from './courseRules'
import { along, withStructure, type S } from './structureRules'

/**
 * What of a structure has faces of the part: what walls stand on; the axis of rows, where they
 * begin, where they end.
 */
export type FollowedFaces = 'upright' | 'about' | 'from' | 'to'

/** As the core names them where they are not found any more. */
export const followedNames: Record<FollowedFaces, string> = {
  upright: 'Walls stand on',
  about: 'Axis of rows',
  from: 'Rows begin',
  to: 'Rows end',
}

/** The faces that a structure follows; none when its course is of another kind. */
export function followedFaces(s: S, of: FollowedFaces): readonly FaceMark[] | null {
  const c = courseOf(s)
  if (of === 'upright') return s.upright ? [s.upright] : []
  if (c.course === 'polar') return of === 'about' ? (c.about ? [c.about] : []) : null
  return c.course === 'between' && of !== 'about' ? c[of] : null
}

/** Walls stand on one face, and an axis has one: the one picked last. What was turned toward an axis of the part is straight again. */
export const withFollowedFaces = (of: FollowedFaces, faces: FaceMark[]) =>
  withStructure((s) => {
    const c = courseOf(s)
    if (of === 'upright') return { upright: faces.at(-1), rotation_deg: along.z }
    if (c.course === 'polar' && of === 'about') return { course: { ...c, about: faces.at(-1) } }
    return c.course === 'between' && of !== 'about' ? { course: { ...c, [of]: faces } } : {}
  })
