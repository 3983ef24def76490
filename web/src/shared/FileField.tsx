import type { RefObject } from 'react'

/** The field behind a button that chooses files, of a part if nothing else is said; hidden, and empty again after every choice. */
export function FileField({
  picker,
  label,
  multiple = false,
  accept = '.stl,.3mf,.obj,.ply,.glb',
  onFiles,
}: {
  picker: RefObject<HTMLInputElement | null>
  label: string
  multiple?: boolean
  accept?: string
  onFiles: (files: File[]) => void
}) {
  return (
    <input
      ref={picker}
      type="file"
      hidden
      multiple={multiple}
      aria-label={label}
      accept={accept}
      onChange={(e) => {
        onFiles([...(e.target.files ?? [])])
        e.target.value = ''
      }}
    />
  )
}
