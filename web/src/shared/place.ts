import { useSyncExternalStore } from 'react'

const moved = 'ulmix-moved'

/** The address within the app. */
export function usePlace(): string {
  return useSyncExternalStore(
    (tell) => {
      window.addEventListener('popstate', tell)
      window.addEventListener(moved, tell)
      return () => {
        window.removeEventListener('popstate', tell)
        window.removeEventListener(moved, tell)
      }
    },
    () => window.location.pathname,
  )
}

export function go(to: string) {
  window.history.pushState(null, '', to)
  window.dispatchEvent(new Event(moved))
}
