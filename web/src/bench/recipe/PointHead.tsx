import { Button } from 'antd'

/** Which of a drawing's points is chosen; one is added after it, or it is removed. */
export function PointHead({
  n,
  of,
  least,
  onAdd,
  onRemove,
}: {
  n: number
  of: number
  least: number
  onAdd: () => void
  onRemove: () => void
}) {
  return (
    <div className="line">
      <b>
        Point {n + 1} of {of}
      </b>
      <span>
        <Button size="small" disabled={of >= 200} onClick={onAdd}>
          Add after
        </Button>{' '}
        <Button size="small" disabled={of <= least} onClick={onRemove}>
          Remove
        </Button>
      </span>
    </div>
  )
}
