import { marked } from 'marked'
import { useMemo, useState } from 'react'
import type { Page } from './Help'

/** Pages of docs/guide by their names without ending, and the pictures that they show. */
const texts = byName(
  import.meta.glob<string>('../../../docs/guide/*.md', {
    query: '?raw',
    import: 'default',
    eager: true,
  }),
)
const pictures = byName(
  import.meta.glob<string>(
    '../../../docs/screenshots/{start,bench-{shape,faces,structure,cut-thickness,mesh,checks,final,skeleton}}.png',
    {
      query: '?url',
      import: 'default',
      eager: true,
    },
  ),
)

function byName(files: Record<string, string>): Record<string, string> {
  const name = (path: string) => path.replace(/^.*\//, '').replace(/\.\w+$/, '')
  return Object.fromEntries(Object.entries(files).map(([path, value]) => [name(path), value]))
}

const nameOf = (href: string) => href.replace(/^.*\//, '').replace(/\.\w+$/, '')

/** The page as HTML: its text is our own, its pictures are those that ship with the app. */
function html(text: string): string {
  const renderer = new marked.Renderer()
  renderer.image = ({ href, text: words }) =>
    `<img src="${pictures[nameOf(href)] ?? ''}" alt="${words}" loading="lazy" />`
  return marked.parse(text, { renderer, async: false })
}

/** A page of the guide; links between pages stay inside. */
export default function GuidePage({ page }: { page: Page }) {
  const [shown, show] = useState<string>(page)
  const text = texts[shown] ?? ''
  const made = useMemo(() => html(text), [text])
  return (
    // The links inside take the keyboard themselves.
    // eslint-disable-next-line jsx-a11y/click-events-have-key-events, jsx-a11y/no-static-element-interactions
    <div
      className="guidepage"
      role="region"
      aria-label="Page of the guide"
      // It scrolls: the keyboard must reach it.
      tabIndex={0}
      onClick={(e) => {
        const href = e.target instanceof HTMLAnchorElement ? e.target.getAttribute('href') : null
        const to = href && nameOf(href)
        if (!to) return
        e.preventDefault()
        if (texts[to]) show(to)
      }}
      dangerouslySetInnerHTML={{ __html: made }}
    />
  )
}
