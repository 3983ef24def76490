import { useBench, type Alone } from '../state'

/** Shows a zone or a body alone in the picture, or everything again. */
export function AloneButton({ of, name }: Alone) {
  const alone = useBench((s) => s.alone?.of === of && s.alone.name === name)
  return (
    <button
      className="plainbutton"
      aria-pressed={alone}
      title={alone ? 'Show everything again' : `Show only ${name} in the picture`}
      onClick={() => useBench.setState({ alone: alone ? null : { of, name } })}
    >
      {alone ? 'Show all' : 'Show alone'}
    </button>
  )
}
