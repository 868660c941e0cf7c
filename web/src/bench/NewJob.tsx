import { Input, Modal, Select } from 'antd'
import { useState } from 'react'
import { useNavigate } from 'react-router'
import { PURPOSES } from '@oak-gauge/contract'
import { problemOf, useCreateJobMutation } from '../api.ts'
import { parseLength } from '../looks/length.ts'
import { ProblemBox } from '../looks/ProblemBox.tsx'
import { t } from '../words/t.ts'

/** Only what cannot be guessed is asked; the rest is in the Brief. */
export function NewJob({ onClose }: { onClose(): void }) {
  const [title, setTitle] = useState('')
  const [purpose, setPurpose] = useState<(typeof PURPOSES)[number]>('inspection')
  const [tolerance, setTolerance] = useState('')
  const [create, { error, isLoading }] = useCreateJobMutation()
  const go = useNavigate()
  const mm = tolerance.trim() ? parseLength(tolerance) : null
  const wrong = tolerance.trim() !== '' && (mm === null || mm <= 0)
  const problem = problemOf(error)
  const submit = async () => {
    if (!title.trim() || wrong) return
    const r = await create({ title, purpose, tolerance: mm })
    if (r.data) void go(`/jobs/${r.data.job.id}/Capture`)
  }
  return (
    <Modal
      open
      title={t('Which part is it?')}
      okText={t('Put it on the bench')}
      cancelText={t('Cancel')}
      onCancel={onClose}
      onOk={() => void submit()}
      confirmLoading={isLoading}
      okButtonProps={{ disabled: !title.trim() || wrong }}
    >
      <form
        className="stack wide"
        onSubmit={(e) => {
          e.preventDefault()
          void submit()
        }}
      >
        <label htmlFor="new-title">{t('Name of the part')}</label>
        <Input id="new-title" autoFocus value={title} maxLength={120} onChange={(e) => setTitle(e.target.value)} />
        <label htmlFor="new-purpose">{t('What for')}</label>
        <Select id="new-purpose" value={purpose} onChange={setPurpose} options={PURPOSES.map((p) => ({ value: p, label: p.replace('-', ' ') }))} />
        <label htmlFor="new-tolerance">
          {t('Tolerance, full width')} <span className="soft">{t('(may be left for later)')}</span>
        </label>
        <Input
          id="new-tolerance"
          value={tolerance}
          status={wrong ? 'error' : ''}
          placeholder="0.2"
          suffix="mm"
          onChange={(e) => setTolerance(e.target.value)}
        />
        <input type="submit" hidden />
      </form>
      {problem && <ProblemBox problem={problem} />}
    </Modal>
  )
}
