import { useState } from 'react'
import { api, type Grading, type GradingSource, type Source } from '../../api/client'
import { count } from '../../shared/format'
import { edit } from '../state'
import { FromFile } from './FromFile'
import { withSource, type Spot } from './gradingRules'
import { OneOf } from './Lines'
import { TripleLine } from './NumberLine'

type TableSource = Extract<Source, { kind: 'table' }>

const lengths = [
  { value: 1, label: 'mm' },
  { value: 10, label: 'cm' },
  { value: 1000, label: 'm' },
  { value: 25.4, label: 'inch' },
]

/** The file that was read last, for another of its columns or another unit. */
interface Held {
  file: File
  columns: string[]
  rows: number
  mm: number
}

/** Numbers at places from a file: which of its columns, in what unit of length, and where. */
export function TableFields({
  grading,
  source,
  from,
  n,
}: {
  grading: Grading
  source: GradingSource
  from: TableSource
  n: number
}) {
  const [held, setHeld] = useState<Held | null>(null)
  const { table } = from
  const empty = table.values.length === 0
  const read = async (file: File, mm: number, column?: string) => {
    const found = await api.table(file, mm, column)
    setHeld({ file, columns: found.columns, rows: found.rows, mm })
    const [least = 0, most = 1] = found.range
    const ends = source.curve?.points ?? []
    const spots: Spot[] = [
      [least, ends[0]?.[1] ?? 1],
      // One number alone has one value.
      ...(most > least ? [[most, ends.at(-1)?.[1] ?? 1] as Spot] : []),
    ]
    await edit(
      withSource(grading.id, n, {
        from: { ...from, table: found.table },
        curve: { points: spots, smooth: source.curve?.smooth ?? true },
      }),
    )
  }
  const merged = held && held.rows > table.values.length
  return (
    <>
      <FromFile
        title={empty ? 'No file yet' : table.name}
        detail={
          empty
            ? 'CSV with x, y, z and numbers, or VTU'
            : `${count(table.values.length)} places${merged ? `, means of ${count(held.rows)}` : ''}`
        }
        label="File of numbers"
        accept=".csv,.txt,.vtu,text/csv"
        button={empty ? 'Choose a file' : 'Another file'}
        read={(file) => read(file, held?.mm ?? 1)}
      />
      {!empty && !held && <p className="muted small">Numbers are “{table.column}”.</p>}
      {held && (
        <>
          <OneOf
            label="Numbers"
            value={table.column}
            options={held.columns.map((value) => ({ value, label: value }))}
            onChange={(column) => read(held.file, held.mm, column)}
          />
          <OneOf
            label="Places are in"
            width={90}
            value={held.mm}
            options={lengths}
            onChange={(mm) => read(held.file, mm, table.column)}
          />
        </>
      )}
      {!empty && (
        <TripleLine
          label="Moved by"
          unit="mm"
          value={from.shift_mm ?? [0, 0, 0]}
          onSet={(shift_mm) => edit(withSource(grading.id, n, { from: { ...from, shift_mm } }))}
        />
      )}
    </>
  )
}
