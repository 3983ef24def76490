import { create } from 'zustand'
import { applyColours, type Mode } from './tokens'

const kept = 'ulmix-mode'

function first(): Mode {
  const chosen = window.localStorage.getItem(kept)
  if (chosen === 'light' || chosen === 'dark') return chosen
  return window.matchMedia('(prefers-color-scheme: dark)').matches ? 'dark' : 'light'
}

/** Light or dark: the system's, until a person chooses. */
export const useMode = create<{ mode: Mode; toggle: () => void }>((set, get) => {
  const mode = first()
  applyColours(mode)
  return {
    mode,
    toggle: () => {
      const next = get().mode === 'dark' ? 'light' : 'dark'
      window.localStorage.setItem(kept, next)
      applyColours(next)
      set({ mode: next })
    },
  }
})
