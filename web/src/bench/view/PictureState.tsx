import { useEffect, useState } from 'react'
import { stageTitles } from '../stages'
import { drawAgain, stopDrawing, useBench } from '../state'

/** How many whole seconds have gone since something began; 0 while nothing goes on. */
function useLasting(since: number | undefined) {
  const [seconds, setSeconds] = useState(0)
  useEffect(() => {
    setSeconds(0)
    if (since === undefined) return
    const timer = window.setInterval(
      () => setSeconds(Math.floor((performance.now() - since) / 1000)),
      250,
    )
    return () => window.clearInterval(timer)
  }, [since])
  return seconds
}

/** What the picture is, in words; what is drawn, where that takes long. */
export function PictureState() {
  const working = useBench((b) => b.working)
  const behind = useBench((b) => b.behind)
  const drawing = useBench((b) => b.drawing)
  const stopped = useBench((b) => b.stopped)
  const quality = useBench((b) => b.picture?.info.quality)
  const step = useBench((b) => b.picture?.info.step_mm)
  const seconds = useLasting(drawing?.since)
  if (drawing && seconds > 0) {
    return (
      <div className="state">
        <span className="dot busy" />
        {drawing.stage ? stageTitles[drawing.stage] : 'The part is made ready'}
        <span className="figure muted">{seconds} s</span>
        <button className="plainbutton" onClick={() => void stopDrawing()}>
          Stop
        </button>
      </div>
    )
  }
  if (stopped && !working) {
    return (
      <div className="state">
        <span className="dot" />
        stopped: the picture is of earlier values
        <button className="plainbutton" onClick={drawAgain}>
          Draw
        </button>
      </div>
    )
  }
  const final = quality === 'final'
  const words = working
    ? behind
      ? 'working'
      : 'drawing'
    : behind
      ? 'the mesh waits'
      : quality
        ? final
          ? 'final mesh'
          : 'draft'
        : 'no picture yet'
  return (
    <div className="state">
      <span className={working ? 'dot busy' : final && !behind ? 'dot done' : 'dot'} />
      {words}
      {step !== undefined && !behind && <span className="figure muted"> grid {step} mm</span>}
    </div>
  )
}
