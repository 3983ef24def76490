import { marked } from 'marked'
import { useMemo, useState } from 'react'
import type { Page } from './Help'

/** Pages of docs/guide by their names without ending, and the pictures that they show. */
const texts = byName(
  import.meta.glob<string>(['../../../docs/guide/*.md', '../../../docs/glossary.md'], {
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

/** Pages in the order of the work. */
const pages = [
  ['start', 'Start'],
  ['part', 'Part'],
  ['zones', 'Zones'],
  ['structure', 'Structure'],
  ['grading', 'Grading'],
  ['thicken', 'Thicken'],
  ['mesh', 'Mesh'],
  ['checks', 'Checks'],
  ['handoff', 'Hand-off'],
  ['picture', 'The picture'],
  ['glossary', 'Glossary'],
] as const

const nameOf = (href: string) => href.replace(/^.*\//, '').replace(/\.\w+$/, '')

/** The page as HTML: its text is our own, its pictures are those that ship with the app. */
function html(text: string): string {
  const renderer = new marked.Renderer()
  renderer.image = ({ href, text: words }) =>
    `<img src="${pictures[nameOf(href)] ?? ''}" alt="${words}" loading="lazy" />`
  return marked.parse(text, { renderer, async: false })
}

/** A page of the guide, with ways to the others. */
export default function GuidePage({ page }: { page: Page }) {
  const [shown, show] = useState<string>(page)
  const made = useMemo(() => html(texts[shown] ?? ''), [shown])
  return (
    <>
      <div className="guidepages" role="tablist" aria-label="Pages of the guide">
        {pages.map(([name, title]) => (
          <button
            key={name}
            className="plainbutton"
            role="tab"
            id={`guide-${name}`}
            aria-selected={name === shown}
            aria-controls="guide-page"
            onClick={() => show(name)}
          >
            {title}
          </button>
        ))}
      </div>
      <div
        key={shown}
        className="guidepage"
        id="guide-page"
        role="tabpanel"
        aria-labelledby={`guide-${shown}`}
        // The page scrolls, so the keyboard must reach it.
        tabIndex={0}
        dangerouslySetInnerHTML={{ __html: made }}
      />
    </>
  )
}
