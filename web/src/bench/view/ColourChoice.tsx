import { Select } from 'antd'
import { colour, useBench, type ColourBy } from '../state'
import type { StrutColour } from './skeleton'

/** What colours mean: of struts where they are looked at, of the result else. */
export function ColourChoice({ struts }: { struts: boolean }) {
  const colourBy = useBench((b) => b.colourBy)
  const strutColour = useBench((b) => b.strutColour)
  return (
    <span className="colourby">
      Colour
      {struts ? (
        <Chosen<StrutColour>
          label="Colour struts by"
          value={strutColour}
          onChange={(strutColour) => useBench.setState({ strutColour })}
          options={[
            { value: 'length', label: 'by length' },
            { value: 'state', label: 'by how struts lie' },
          ]}
        />
      ) : (
        <Chosen<ColourBy>
          label="Colour by"
          value={colourBy}
          onChange={colour}
          options={[
            { value: 'zone', label: 'by zone' },
            { value: 'thickness', label: 'by wall thickness' },
          ]}
        />
      )}
    </span>
  )
}

/** One of a few, opened from where it is told. */
function Chosen<T extends string>({
  label,
  value,
  onChange,
  options,
}: {
  label: string
  value: T
  onChange: (v: T) => void
  options: { value: T; label: string }[]
}) {
  return (
    <Select<T>
      aria-label={label}
      size="middle"
      variant="borderless"
      popupMatchSelectWidth={false}
      value={value}
      onChange={onChange}
      options={options}
    />
  )
}
