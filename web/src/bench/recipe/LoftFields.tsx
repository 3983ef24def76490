import { Button, Segmented } from 'antd'
import { useState } from 'react'
import { edit } from '../state'
import { pointsAround, type Loft, type Section } from './curve'
import { CurveEditor } from './CurveEditor'
import { SwitchLine } from './Lines'
import { NumberLine } from './NumberLine'
import { SheetSwitch } from './SheetSwitch'
import { withShape } from './shapeRules'
import { Value } from './Value'

const mm = (v: number) => Number(v.toFixed(1))

/** The outlines of a loft, from below. */
export function LoftFields({ shape }: { shape: Loft }) {
  const [chosen, setChosen] = useState(0)
  const { sections } = shape
  const n = Math.min(chosen, sections.length - 1)
  const section = sections[n]
  if (!section) return null
  const drawn = section.curve_mm.length > 0
  const put = (change: Partial<Loft>) => withShape('loft', (s) => ({ ...s, ...change }))
  const set = (change: Partial<Section>) =>
    put({ sections: sections.map((s, i) => (i === n ? { ...s, ...change } : s)) })
  const pair = (of: readonly number[], axis: number, v: number): [number, number] => [
    axis === 0 ? v : (of[0] ?? 0),
    axis === 1 ? v : (of[1] ?? 0),
  ]
  /** Between this one and the next, or as far above the last as it is above the one before. */
  const add = () => {
    const next = sections[n + 1]
    const before = sections[n - 1] ?? section
    const height_mm = next
      ? (section.height_mm + next.height_mm) / 2
      : 2 * section.height_mm - before.height_mm
    const mean = (a = 0, b = 0) => (a + b) / 2
    const pairs = (a: readonly number[], b: readonly number[]) => [
      mean(a[0], b[0]),
      mean(a[1], b[1]),
    ]
    const above = next ?? section
    const added: Section = {
      height_mm,
      size_mm: pairs(section.size_mm, above.size_mm),
      round_percent: mean(section.round_percent, above.round_percent),
      turn_deg: mean(section.turn_deg, above.turn_deg),
      middle_mm: pairs(section.middle_mm, above.middle_mm),
      curve_mm: section.curve_mm,
    }
    edit(put({ sections: [...sections.slice(0, n + 1), added, ...sections.slice(n + 1)] }))
    setChosen(n + 1)
  }
  const longest = Math.max(...sections.flatMap((s) => s.size_mm))
  return (
    <>
      <ul className="zonelist" aria-label="Sections">
        {sections.map((s, i) => (
          <li key={i} className="zonerow">
            <button className="rowbutton" aria-pressed={i === n} onClick={() => setChosen(i)}>
              <span className="name" style={{ fontWeight: i === n ? 650 : 400 }}>
                Section {i + 1}
                {i === 0 ? ', lowest' : i === sections.length - 1 ? ', highest' : ''}
              </span>
              <span className="figure">
                {s.curve_mm.length > 0
                  ? `${s.curve_mm.length} points`
                  : `${mm(s.size_mm[0] ?? 0)} × ${mm(s.size_mm[1] ?? 0)} mm`}{' '}
                at {mm(s.height_mm)}
              </span>
            </button>
          </li>
        ))}
      </ul>
      <div className="line">
        <b>Section {n + 1}</b>
        <span>
          <Button size="small" disabled={sections.length >= 50} onClick={add}>
            Add above
          </Button>{' '}
          <Button
            size="small"
            disabled={sections.length <= 2}
            onClick={() => edit(put({ sections: sections.filter((_, i) => i !== n) }))}
          >
            Remove
          </Button>
        </span>
      </div>
      <NumberLine
        label="Height"
        value={section.height_mm}
        unit="mm"
        onSet={(height_mm) => edit(set({ height_mm }))}
      />
      <div className="line">
        <span className="label">Outline</span>
        <Segmented
          size="small"
          aria-label="Outline"
          value={drawn ? 'drawn' : 'rounded'}
          onChange={(kind) =>
            edit(
              kind === 'drawn'
                ? set({ curve_mm: pointsAround(section) })
                : put({
                    open: false,
                    sections: sections.map((s, i) => (i === n ? { ...s, curve_mm: [] } : s)),
                  }),
            )
          }
          options={[
            { value: 'rounded', label: 'Rounded' },
            { value: 'drawn', label: 'Drawn' },
          ]}
        />
      </div>
      {drawn ? (
        <CurveEditor section={section} open={shape.open} set={set} />
      ) : (
        <>
          {['X', 'Y'].map((name, i) => (
            <Value
              key={name}
              label={`Side ${name}`}
              value={section.size_mm[i] ?? 0}
              unit="mm"
              range={[0, Number((1.5 * longest).toPrecision(2))]}
              digits={1}
              still={(v) => v <= 0}
              change={(v) => set({ size_mm: pair(section.size_mm, i, v) })}
            />
          ))}
          <Value
            label="Roundness"
            hint={section.round_percent === 100 ? 'an ellipse' : undefined}
            value={section.round_percent}
            unit="%"
            range={[0, 100]}
            digits={0}
            change={(round_percent) => set({ round_percent })}
          />
        </>
      )}
      <Value
        label="Turn"
        value={section.turn_deg}
        unit="°"
        range={[-180, 180]}
        digits={0}
        change={(turn_deg) => set({ turn_deg })}
      />
      {['X', 'Y'].map((name, i) => (
        <NumberLine
          key={name}
          label={`Middle ${name}`}
          value={section.middle_mm[i] ?? 0}
          unit="mm"
          onSet={(v) => edit(set({ middle_mm: pair(section.middle_mm, i, v) }))}
        />
      ))}
      <SwitchLine
        label="Smooth from section to section"
        checked={shape.smooth}
        onChange={(smooth) => edit(put({ smooth }))}
      />
      {!shape.open && (
        <SheetSwitch
          label="Open at both ends, as a sheet"
          on={shape.sheet}
          set={(sheet) => put({ sheet })}
        />
      )}
      {sections.every((s) => s.curve_mm.length > 0) && (
        <SheetSwitch
          label="Curves end, as a sheet between them"
          on={shape.open}
          set={(open) => put({ open })}
        />
      )}
    </>
  )
}
