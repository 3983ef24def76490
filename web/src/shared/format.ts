/** Figures for people: thin spaces between thousands, units with a space. */
const group = (s: string) => s.replace(/\B(?=(\d{3})+(?!\d))/g, ' ')

export function fixed(v: number, digits: number): string {
  const [whole = '', part] = v.toFixed(digits).split('.')
  return part === undefined ? group(whole) : `${group(whole)}.${part}`
}

export const count = (n: number) => group(Math.round(n).toString())
export const percent = (v: number) => `${v.toFixed(1)} %`
export const mm = (v: number) =>
  `${v >= 100 ? v.toFixed(1) : v >= 0.1 ? v.toFixed(2) : v.toPrecision(2)} mm`

/** Without digits that say nothing: 12 not 12.00. */
export const plain = (v: number) => String(Number(v.toPrecision(4)))

export function volume(mm3: number): string {
  return mm3 < 100
    ? `${fixed(mm3, 1)} mm³`
    : mm3 < 1e8
      ? `${fixed(mm3 / 1e3, mm3 < 1e5 ? 2 : 1)} cm³`
      : `${fixed(mm3 / 1e6, 1)} dm³`
}

export function area(mm2: number): string {
  return mm2 < 1000 ? `${fixed(mm2, 0)} mm²` : `${fixed(mm2 / 100, mm2 < 1e5 ? 1 : 0)} cm²`
}

export function mass(g: number): string {
  return g < 1
    ? `${fixed(g * 1000, 1)} mg`
    : g < 1e4
      ? `${fixed(g, g < 10 ? 2 : 1)} g`
      : `${fixed(g / 1000, 2)} kg`
}

export function seconds(s: number): string {
  return s < 0.095
    ? `${Math.round(s * 1000)} ms`
    : s < 10
      ? `${s.toFixed(1)} s`
      : s < 90
        ? `${Math.round(s)} s`
        : `${Math.round(s / 60)} min`
}

export function triangles(n: number): string {
  return n < 1e4
    ? count(n)
    : n < 1e6
      ? `${Math.round(n / 1e3)} thousand`
      : `${(n / 1e6).toFixed(1)} million`
}

export const size = (s: number[]) =>
  `${s.map((v) => plain(Number(v.toFixed(v < 1 ? 3 : 1)))).join(' × ')} mm`

export function ago(ms: number): string {
  const minutes = Math.round((Date.now() - ms) / 60000)
  if (minutes < 1) return 'just now'
  if (minutes < 60) return `${minutes} min ago`
  if (minutes < 60 * 24) return `${Math.round(minutes / 60)} h ago`
  return new Date(ms).toLocaleDateString()
}
