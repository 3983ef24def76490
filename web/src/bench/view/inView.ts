type Place = [number, number, number]

// No state of a project: the picture outlives them.
let asked: (() => Place) | null = null

/** Says who knows what is in the middle of the picture. */
export function setInView(by: (() => Place) | null) {
  asked = by
}

/** The place of the part in the middle of the picture, while there is one. mm. */
export const inView = () => asked?.() ?? null
