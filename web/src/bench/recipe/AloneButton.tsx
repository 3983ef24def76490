import { useBench, type Alone } from '../state'

const same = (a: Alone | null, b: Alone) =>
  a?.of === 'zone' && b.of === 'zone'
    ? a.id === b.id
    : a?.of === 'body' && b.of === 'body' && a.name === b.name

/** Shows a zone or a body alone in the picture, or everything again. */
export function AloneButton({ of, name }: { of: Alone; name: string }) {
  const alone = useBench((s) => same(s.alone, of))
  return (
    <button
      className="plainbutton"
      aria-pressed={alone}
      title={alone ? 'Show everything again' : `Show only ${name} in the picture`}
      onClick={() => useBench.setState({ alone: alone ? null : of })}
    >
      {alone ? 'Show all' : 'Show alone'}
    </button>
  )
}
