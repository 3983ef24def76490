import { Drawer } from 'antd'
import { lazy, Suspense, useRef, useState } from 'react'
import type { Step } from '../bench/state'
import './guide.css'

// The guide and what draws its text are fetched when somebody asks.
const GuidePage = lazy(() => import('./GuidePage'))

export type Page = Step | 'picture' | 'start'

/** Opens the page of the guide about a step, beside what is worked on. */
export function HelpButton({ step, title }: { step: Page; title: string }) {
  const [open, setOpen] = useState(false)
  const button = useRef<HTMLButtonElement>(null)
  const close = () => {
    setOpen(false)
    button.current?.focus()
  }
  return (
    <>
      <button
        ref={button}
        className="helpbutton"
        aria-label={`Guide: ${title}`}
        title="What this step does"
        aria-haspopup="dialog"
        onClick={() => setOpen(true)}
      >
        ?
      </button>
      <Drawer
        rootClassName="guide"
        title="Guide"
        placement="right"
        width={520}
        open={open}
        destroyOnHidden
        onClose={close}
      >
        <Suspense fallback={<p className="muted">The guide opens…</p>}>
          <GuidePage page={step} />
        </Suspense>
      </Drawer>
    </>
  )
}
