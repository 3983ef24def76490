import type { RefObject } from 'react'

/** The field behind a button that chooses part files; hidden, and empty again after every choice. */
export function FileField({ picker, label, multiple = false, onFiles }: { picker: RefObject<HTMLInputElement | null>; label: string; multiple?: boolean; onFiles: (files: File[]) => void }) {
  return (
    <input
      ref={picker}
      type="file"
      hidden
      multiple={multiple}
      aria-label={label}
      accept=".stl,.3mf,.obj,.ply,.glb"
      onChange={(e) => {
        onFiles([...(e.target.files ?? [])])
        e.target.value = ''
      }}
    />
  )
}
