import { Component, type ReactNode } from 'react'

/** Stands in for a page that failed to draw: what is saved is with the server. */
export class ErrorBoundary extends Component<{ children: ReactNode }, { what: string | null }> {
  state = { what: null }

  static getDerivedStateFromError(e: unknown) {
    return { what: e instanceof Error ? e.message : String(e) }
  }

  render() {
    if (this.state.what === null) return this.props.children
    return (
      <main className="gone">
        <h1>This page could not be drawn.</h1>
        <p>Nothing that was saved is lost. The error is: {this.state.what}</p>
        <a href={window.location.pathname}>Open it again</a>
      </main>
    )
  }
}
