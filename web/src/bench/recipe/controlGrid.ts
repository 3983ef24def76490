type Point = [number, number, number]

/** A grid of control points with other counts, on straight lines between the old ones: about the same sheet. */
export function resampled(
  points: readonly (readonly number[])[],
  across: number,
  u: number,
  v: number,
): Point[] {
  const rows = points.length / across
  const at = (row: number, n: number): Point => {
    const [x, y] = [Math.min(Math.floor(n), across - 2), Math.min(Math.floor(row), rows - 2)]
    const [s, t] = [n - x, row - y]
    const corner = (i: number, j: number) => points[(y + j) * across + x + i] ?? [0, 0, 0]
    const mix = (c: number) =>
      [0, 1].map((j) => (corner(0, j)[c] ?? 0) * (1 - s) + (corner(1, j)[c] ?? 0) * s)
    return [0, 1, 2].map((c) => {
      const [low = 0, high = 0] = mix(c)
      return Number((low * (1 - t) + high * t).toFixed(3))
    }) as Point
  }
  return Array.from({ length: u * v }, (_, i) =>
    at((Math.floor(i / u) / (v - 1)) * (rows - 1), ((i % u) / (u - 1)) * (across - 1)),
  )
}
