import type { ReactNode } from 'react'
import { go } from './place'

/** A link to a page of the app, which is not loaded again for it. */
export function Link({
  to,
  className,
  children,
}: {
  to: string
  className?: string
  children: ReactNode
}) {
  return (
    <a
      className={className}
      href={to}
      onClick={(e) => {
        e.preventDefault()
        go(to)
      }}
    >
      {children}
    </a>
  )
}
