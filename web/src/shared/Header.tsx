import type { ReactNode } from 'react'
import { useMode } from '../theme/mode'
import { Link } from 'wouter'

function Leaf() {
  return (
    <svg
      viewBox="0 0 32 32"
      aria-hidden="true"
      fill="none"
      stroke="currentColor"
      strokeWidth="2"
      strokeLinejoin="round"
      strokeLinecap="round"
    >
      <path d="M16 30V9M16 30c-9-3-12-11-8-19l8-9 8 9c4 8 1 16-8 19zM16 14l-6-4m6 10-8-4m8-2 6-4m-6 10 8-4" />
    </svg>
  )
}

export function Header({ children }: { children?: ReactNode }) {
  const { mode, toggle } = useMode()
  return (
    <header className="header">
      <Link to="/" className="brand">
        <Leaf /> ulmix
      </Link>
      {children ?? <span className="grow" />}
      <button
        className="round"
        onClick={toggle}
        title={mode === 'dark' ? 'Light colours' : 'Dark colours'}
        aria-label={mode === 'dark' ? 'Light colours' : 'Dark colours'}
      >
        {mode === 'dark' ? '☀' : '☾'}
      </button>
    </header>
  )
}
