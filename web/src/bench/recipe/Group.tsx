import { useId, useState, type ReactNode } from 'react'

/** Controls under one name: a line that says what is set, until it is opened. */
export function Group({
  name,
  sentence,
  children,
}: {
  name: string
  sentence: ReactNode
  children: ReactNode
}) {
  const [open, setOpen] = useState(false)
  const id = useId()
  return (
    <section className="group">
      <button
        className="grouphead"
        aria-expanded={open}
        aria-controls={open ? id : undefined}
        onClick={() => setOpen(!open)}
      >
        <span className="mark" aria-hidden />
        <b>{name}</b>
        <span className="muted">{sentence}</span>
      </button>
      {open && (
        <div className="groupbody" id={id}>
          {children}
        </div>
      )}
    </section>
  )
}
