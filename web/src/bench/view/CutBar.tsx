import { InputNumber, Segmented, Tooltip } from 'antd'
import { useBench, type Axis, type Cut } from '../state'

const setCut = (change: Partial<Cut>) =>
  useBench.setState(({ cut }) => ({ cut: { ...cut, ...change } }))

/** Where the view is cut, across which axis, and which half stays. */
export function CutBar() {
  const part = useBench((b) => b.project?.part)
  const { axis, at, flipped } = useBench((b) => b.cut)
  const low = part?.min_mm[axis] ?? 0
  const high = part ? low + (part.size_mm[axis] ?? 0) : 1
  const middle = (axis: Axis) => (part?.min_mm[axis] ?? 0) + (part?.size_mm[axis] ?? 0) / 2
  return (
    <div className="cutbar">
      <Segmented<Axis>
        aria-label="Cut across"
        size="small"
        value={axis}
        // The half nearer to the first view goes, so that the cut face is seen.
        onChange={(axis) => setCut({ axis, at: middle(axis), flipped: axis === 1 })}
        options={[
          { value: 0, label: 'X' },
          { value: 1, label: 'Y' },
          { value: 2, label: 'Z' },
        ]}
      />
      <input
        type="range"
        aria-label="Cut position"
        min={low}
        max={high}
        step={(high - low) / 400}
        value={at}
        onChange={(e) => setCut({ at: Number(e.target.value) })}
      />
      <InputNumber
        size="small"
        aria-label="Cut at"
        value={Number(at.toFixed(1))}
        min={low}
        max={high}
        step={1}
        suffix="mm"
        controls={false}
        style={{ width: 76, flex: 'none' }}
        onChange={(at) => at !== null && setCut({ at })}
      />
      <Tooltip title="Keep the other side">
        <button
          className="plainbutton"
          aria-label="Keep the other side"
          onClick={() => setCut({ flipped: !flipped })}
        >
          ⇄
        </button>
      </Tooltip>
    </div>
  )
}
