import { Input, Modal, Switch } from 'antd'
import { useState } from 'react'
import type { Step } from '@oak-gauge/contract'
import { problemOf, useOperationsQuery, useRerunStepMutation } from '../api.ts'
import { ProblemBox } from '../looks/ProblemBox.tsx'
import { useOpenJob } from './useJob.ts'
import { t } from '../words/t.ts'

interface Schema {
  type?: string
  description?: string
  default?: unknown
  enum?: string[]
}

/** A step's plain settings, changed by hand. Places and loops stay as they are: those are set in the stage's own card. */
export function EditStep({ step, after, onClose }: { step: Step; after: number; onClose(): void }) {
  const { state } = useOpenJob()
  const { data: operations } = useOperationsQuery()
  const [rerun, { error, isLoading }] = useRerunStepMutation()
  const [params, setParams] = useState<Record<string, unknown>>(step.params)
  const [texts, setTexts] = useState<Record<string, string>>({})
  const properties = (operations?.find((o) => o.name === step.operation)?.settings['properties'] ?? {}) as Record<string, Schema>
  const plain = Object.entries(properties).filter(([, s]) => s.enum || ['number', 'integer', 'boolean', 'string'].includes(s.type ?? ''))
  const set = (name: string, v: unknown) => {
    const next = { ...params }
    if (v === undefined) delete next[name]
    else next[name] = v
    setParams(next)
  }
  const wrong = Object.entries(texts).some(([, t]) => t.trim() !== '' && !Number.isFinite(Number(t.replace(',', '.'))))
  const problem = problemOf(error)
  return (
    <Modal
      open
      title={t('{{title}}, with other settings', { title: step.title })}
      okText={after ? t('Run, and the {{after}} after it', { after }) : t('Run')}
      cancelText={t('Leave it')}
      onCancel={onClose}
      confirmLoading={isLoading}
      okButtonProps={{ disabled: wrong }}
      onOk={() =>
        void rerun({ id: state.job.id, step: step.id, params }).then((r) => {
          if (!r.error) onClose()
        })
      }
    >
      <p className="hint above">{t('What depends on it is computed again; the present branch stays in the ledger.')}</p>
      <div className="stack wide">
        {!plain.length && <p>{t('This step has no settings to type.')}</p>}
        {plain.map(([name, s]) => (
          <div className="field" key={name}>
            <label htmlFor={`set-${name}`}>{name}</label>
            {s.type === 'boolean' ? (
              <Switch id={`set-${name}`} checked={(params[name] ?? s.default) === true} onChange={(v) => set(name, v)} />
            ) : s.enum ? (
              <select id={`set-${name}`} value={(params[name] ?? s.default ?? '') as string} onChange={(e) => set(name, e.target.value)}>
                {s.enum.map((v) => (
                  <option key={v}>{v}</option>
                ))}
              </select>
            ) : (
              <Input
                id={`set-${name}`}
                className="amount"
                value={texts[name] ?? String((params[name] ?? s.default ?? '') as string | number)}
                onChange={(e) => {
                  const t = e.target.value
                  if (s.type === 'string') return set(name, t)
                  setTexts({ ...texts, [name]: t })
                  const v = Number(t.replace(',', '.'))
                  set(name, t.trim() === '' || !Number.isFinite(v) ? undefined : v)
                }}
              />
            )}
            <span className="reason">{s.description}</span>
          </div>
        ))}
      </div>
      {problem && <ProblemBox problem={problem} />}
    </Modal>
  )
}
