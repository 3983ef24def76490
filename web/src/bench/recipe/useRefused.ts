import { useState } from 'react'
import { useBench, type Problem } from '../state'

/**
 * A typed value that the server may not take: it stays in its field, with the reason beside it, until the next change.
 * `take` gets the value and what came of saving it.
 */
export function useRefused() {
  const [mine, setMine] = useState<{ value: number; refusal: Problem } | null>(null)
  const refusal = useBench((s) => s.refusal)
  const take = async (value: number, saved: unknown) => {
    const problem = await saved
    setMine(isProblem(problem) ? { value, refusal: problem } : null)
  }
  return { refused: mine && mine.refusal === refusal ? mine : null, take }
}

const isProblem = (v: unknown): v is Problem =>
  typeof v === 'object' && v !== null && 'message' in v && 'hint' in v
