import type { OwnShape, Recipe } from '../../api/client'

export type ShapeOf<K extends OwnShape['shape']> = Extract<OwnShape, { shape: K }>

/** Changes the part's shape, where it still is of that kind. */
export const withShape =
  <K extends OwnShape['shape']>(kind: K, change: (s: ShapeOf<K>) => OwnShape) =>
  (r: Recipe): Recipe => {
    const { shape } = r.part
    return shape?.shape === kind
      ? { ...r, part: { ...r.part, shape: change(shape as ShapeOf<K>) } }
      : r
  }

/** Gives what is open its first thickness, where it has none. */
export const withThickness =
  (first: NonNullable<Recipe['part']['shell']>) =>
  (r: Recipe): Recipe => ({ ...r, part: { ...r.part, shell: r.part.shell ?? first } })
