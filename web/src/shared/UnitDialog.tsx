import { Button, Modal, Radio } from 'antd'
import { useState } from 'react'
import type { Upload } from '../api/client'
import { count, size, volume } from './format'

type Unit = Upload['contents']['choices'][number]['unit']
export type { Unit }

const names: Record<Unit, string> = {
  mm: 'Millimetres',
  cm: 'Centimetres',
  m: 'Metres',
  inch: 'Inches',
}

/** Asks for the unit of a file that states none, and shows the size each would give. */
export function UnitDialog({
  upload,
  beside = [],
  onClose,
  onUse,
}: {
  upload: Upload
  beside?: Upload[]
  onClose: () => void
  onUse: (unit: Unit) => Promise<void>
}) {
  const { contents } = upload
  const first =
    (
      contents.choices.find((c) => c.usable && !c.unlikely) ??
      contents.choices.find((c) => c.usable)
    )?.unit ?? 'mm'
  const [unit, setUnit] = useState<Unit>(first)
  const [busy, setBusy] = useState(false)
  const chosen = contents.choices.find((c) => c.unit === unit)
  return (
    <Modal
      open
      title={contents.unit_stated ? 'Bring this part in?' : 'Which unit is this part in?'}
      onCancel={onClose}
      width={460}
      footer={[
        <Button key="no" onClick={onClose}>
          Not this one
        </Button>,
        <Button
          key="yes"
          type="primary"
          loading={busy}
          disabled={!chosen?.usable}
          onClick={async () => {
            setBusy(true)
            await onUse(unit)
            setBusy(false)
          }}
        >
          Use this part
        </Button>,
      ]}
    >
      <p className="muted" style={{ marginTop: 0 }}>
        {upload.file_name} · {contents.format}
        {!contents.unit_stated && ' files do not say it.'}
        {beside.length > 0 && (
          <>
            <br />
            With it, in the same unit: {beside.map((b) => b.file_name).join(', ')}
          </>
        )}
      </p>
      {contents.unit_stated ? (
        <p>
          <span className="figure">{chosen && size(chosen.size_mm)}</span>{' '}
          <small className="muted">{chosen?.words}</small>
        </p>
      ) : (
        <Radio.Group value={unit} onChange={(e) => setUnit(e.target.value)} className="units">
          {contents.choices.map((c) => (
            <Radio key={c.unit} value={c.unit} disabled={!c.usable}>
              <span>{names[c.unit]}</span>
              <small className="muted">{c.usable && c.words}</small>
              <span className="figure">{size(c.size_mm)}</span>
            </Radio>
          ))}
        </Radio.Group>
      )}
      {chosen?.unlikely && <p className="remark">{chosen.unlikely}</p>}
      <dl className="facts">
        <div>
          <dt>Volume</dt>
          <dd>{chosen && volume(chosen.volume_mm3)}</dd>
        </div>
        <div>
          <dt>Triangles</dt>
          <dd>{count(contents.triangles)}</dd>
        </div>
        {contents.struts > 0 && (
          <div>
            <dt>Struts</dt>
            <dd title="Of its beam lattice">{count(contents.struts)}</dd>
          </div>
        )}
        <div>
          <dt>Bodies</dt>
          <dd>{count(contents.bodies)}</dd>
        </div>
        <div>
          <dt>Surface</dt>
          <dd className={contents.closed ? '' : 'amber'}>
            {contents.sheet ? 'an open sheet' : contents.closed ? 'closed' : 'not closed'}
          </dd>
        </div>
      </dl>
      {contents.defects.map((d) => (
        <p key={d} className="remark" style={{ margin: '6px 0 0' }}>
          {d}.
        </p>
      ))}
    </Modal>
  )
}
