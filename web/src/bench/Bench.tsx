import { Modal } from 'antd'
import { useEffect, useState } from 'react'
import { Header } from '../shared/Header'
import { Ledger } from './ledger/Ledger'
import { LiveRegion } from './LiveRegion'
import { Steps } from './recipe/Steps'
import { edit, listen, open, redo, undo, useBench } from './state'
import { View } from './view/View'
import './bench.css'

export function Bench({ id }: { id: string }) {
  const project = useBench((b) => b.project)
  const recipe = useBench((b) => b.recipe)
  const offline = useBench((b) => b.offline)
  const saving = useBench((b) => b.saving)
  const problem = useBench((b) => b.problem)
  const [help, setHelp] = useState(false)

  useEffect(() => {
    void open(id)
    return listen(id)
  }, [id])

  useEffect(() => {
    const keys = (e: KeyboardEvent) => {
      const typing = e.target instanceof HTMLInputElement && e.target.type !== 'range'
      if ((e.ctrlKey || e.metaKey) && e.key.toLowerCase() === 'z' && !typing) {
        e.preventDefault()
        if (e.shiftKey) redo()
        else undo()
      } else if (e.key === '?' && !typing) {
        setHelp(true)
      }
    }
    window.addEventListener('keydown', keys)
    return () => window.removeEventListener('keydown', keys)
  }, [])

  useEffect(() => {
    document.title = recipe ? `${recipe.name} · Ulmix` : 'Ulmix'
  }, [recipe])

  const rename = (name: string) => {
    const clean = name.trim()
    if (clean && clean !== recipe?.name) edit((r) => ({ ...r, name: clean }))
  }

  return (
    <div className="bench">
      <Header>
        <span aria-hidden="true">/</span>
        <h1 className="unseen">{recipe?.name}</h1>
        {recipe && (
          <input
            key={recipe.name}
            className="name"
            aria-label="Project name"
            defaultValue={recipe.name}
            maxLength={120}
            onBlur={(e) => rename(e.target.value)}
            onKeyDown={(e) => e.key === 'Enter' && e.currentTarget.blur()}
          />
        )}
        <span className="grow" />
        <button
          className="round"
          onClick={undo}
          disabled={!project?.can_undo}
          aria-label="Undo"
          title="Undo (Ctrl+Z)"
        >
          ↶
        </button>
        <button
          className="round"
          onClick={redo}
          disabled={!project?.can_redo}
          aria-label="Redo"
          title="Redo (Ctrl+Shift+Z)"
        >
          ↷
        </button>
        <span
          className="round"
          style={{ cursor: 'default' }}
          role="status"
          data-testid="saved-state"
        >
          {offline ? 'Not saved' : saving ? 'Saving…' : 'Saved'}
        </span>
        <button className="round" onClick={() => setHelp(true)} aria-label="Keys" title="Keys (?)">
          ?
        </button>
      </Header>
      <LiveRegion />
      {offline && (
        <div className="banner">
          Ulmix does not answer. Your last change is kept here and saved as soon as it is back.
        </div>
      )}
      {project ? (
        <main className="columns">
          <Steps />
          <View />
          <Ledger />
        </main>
      ) : (
        problem && (
          <main className="gone">
            <h1>{problem.message}</h1>
            <p>{problem.hint}</p>
            <a href="/">All projects</a>
          </main>
        )
      )}
      <Modal title="Keys" open={help} footer={null} onCancel={() => setHelp(false)} width={380}>
        <dl className="facts">
          {[
            ['Undo, redo', 'Ctrl+Z, Ctrl+Shift+Z'],
            ['Whole or cut', 'C'],
            ['Fit the part', 'F'],
            ['Angle, front, side, top', '1 2 3 4'],
            ['Turn the picture', 'drag'],
            ['Move the picture', 'right drag'],
            ['Nearer, farther', 'wheel'],
            ['This list', '?'],
          ].map(([what, key]) => (
            <div key={what}>
              <dt>{what}</dt>
              <dd>{key}</dd>
            </div>
          ))}
        </dl>
      </Modal>
    </div>
  )
}
