import { Button } from 'antd'
import { useRef, useState } from 'react'
import { Refused } from '../../api/client'
import { FileField } from '../../shared/FileField'

/**
 * What a structure takes from a file, a mesh where nothing else is said: its name and what it
 * holds, a button for another, and why one was refused.
 */
export function FromFile(p: {
  title: string
  detail: string
  label: string
  accept?: string
  button: string
  onClick?: () => void
  read: (file: File) => Promise<unknown>
}) {
  const picker = useRef<HTMLInputElement>(null)
  const [refused, setRefused] = useState<string | null>(null)
  const read = async (file: File) => {
    setRefused(null)
    try {
      await p.read(file)
    } catch (e) {
      if (!(e instanceof Refused)) throw e
      setRefused(`${e.message} ${e.hint}`)
    }
  }
  return (
    <>
      <div className="line">
        <span className="label">
          {p.title}
          <small>{p.detail}</small>
        </span>
        <Button size="small" onClick={p.onClick ?? (() => picker.current?.click())}>
          {p.button}
        </Button>
      </div>
      {refused && <p className="remark bad">{refused}</p>}
      <FileField
        picker={picker}
        label={p.label}
        accept={p.accept}
        onFiles={([file]) => file && void read(file)}
      />
    </>
  )
}
