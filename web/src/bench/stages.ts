import type { Stage } from '../api/client'

/** What a run works on, in order. */
export const stageTitles: Record<Stage, string> = {
  skeleton: 'Points, cells and struts',
  thickness: 'Thickness and density',
  zones: 'Part and zones on the grid',
  lattice: 'Lattice',
  surface: 'Closed surface',
  finish: 'Loose pieces and rounding',
  report: 'Checking',
}
