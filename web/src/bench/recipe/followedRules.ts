import type { FaceMark } from '../../api/client'
import { coursed, courseOf } from './courseRules'
import { isUpright, uprightOf } from './patternRules'
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
  if (of === 'upright') {
    const upright = uprightOf(s.pattern)
    return upright ? [upright] : []
  }
  const c = courseOf(s)
  if (c.course === 'polar') return of === 'about' ? (c.about ? [c.about] : []) : null
  return c.course === 'between' && of !== 'about' ? c[of] : null
}

/**
 * Walls stand on one face, and an axis has one: the one picked last. What was turned toward an axis
 * of the part is straight again.
 */
export const withFollowedFaces = (of: FollowedFaces, faces: FaceMark[]) =>
  withStructure((s) => {
    const { pattern } = s
    if (of === 'upright')
      return isUpright(pattern)
        ? { pattern: { ...pattern, upright: faces.at(-1) ?? null }, rotation_deg: along.z }
        : {}
    const c = courseOf(s)
    if (c.course === 'polar' && of === 'about')
      return { pattern: coursed(pattern, { ...c, about: faces.at(-1) }) }
    return c.course === 'between' && of !== 'about'
      ? { pattern: coursed(pattern, { ...c, [of]: faces }) }
      : {}
  })
