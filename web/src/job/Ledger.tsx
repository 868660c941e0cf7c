import { App, Button, Checkbox, Drawer, Upload } from 'antd'
import { useState } from 'react'
import { API, addressOf, type Step } from '@oak-gauge/contract'
import { problemOf, useMoveHeadMutation, useRunRecipeMutation } from '../api.ts'
import { duration, formatU, formatValue, fixed } from '../looks/quantity.ts'
import { useAppDispatch, useAppSelector } from '../store.ts'
import { view } from '../view/viewSlice.ts'
import { Compare } from './Compare.tsx'
import { EditStep } from './EditStep.tsx'
import { useOpenJob } from './useJob.ts'
import { t } from '../words/t.ts'

/** Every step with its settings, numbers and time; go to it, change a setting and run on from it, compare two. */
export function Ledger() {
  const open = useAppSelector((s) => s.view.ledgerOpen)
  const dispatch = useAppDispatch()
  const { state, path, busy } = useOpenJob()
  const [move] = useMoveHeadMutation()
  const [run] = useRunRecipeMutation()
  const [editing, setEditing] = useState<Step | null>(null)
  const [marked, setMarked] = useState<string[]>([])
  const [comparing, setComparing] = useState(false)
  const { message } = App.useApp()
  const onPath = new Set(path.map((s) => s.id))
  const steps = state.steps.filter((s) => !s.preview && (s.state === 'done' || s.state === 'failed' || s.state === 'cancelled'))
  const goTo = async (id: string | null) => {
    const r = await move({ id: state.job.id, step: id })
    if (r.error) void message.warning(problemOf(r.error)?.detail ?? '')
  }
  const repeat = async (file: File) => {
    let recipe: unknown
    try {
      recipe = JSON.parse(await file.text())
    } catch {
      return void message.error(t('{{name}} is no recipe: it is not readable as JSON.', { name: file.name }))
    }
    const problem = problemOf((await run({ id: state.job.id, recipe })).error)
    if (problem) void message.error(`${problem.detail} ${problem.where} ${problem.remedy}`)
  }
  const both = marked.map((m) => steps.find((s) => s.id === m)).filter((s) => s !== undefined)
  return (
    <Drawer
      open={open}
      onClose={() => dispatch(view.ledger(false))}
      title={t('Ledger')}
      size={560}
      className="ledger"
      extra={
        <span className="abreast">
          <Button size="small" disabled={both.length !== 2} onClick={() => setComparing(true)}>
            {t('Compare two')}
          </Button>
          <Button size="small" href={addressOf(API.recipe, { id: state.job.id })} download>
            {t('Save as recipe')}
          </Button>
          <Upload accept=".json" showUploadList={false} beforeUpload={(file) => (void repeat(file), false)} disabled={!!busy}>
            <Button size="small" disabled={!!busy}>
              {t('Run a recipe')}
            </Button>
          </Upload>
        </span>
      }
    >
      {!steps.length && <p className="soft">{t('No step yet. Everything that changes the job will be listed here, and can be taken back.')}</p>}
      {[...steps].reverse().map((s) => {
        const here = s.id === state.head
        const off = !onPath.has(s.id)
        return (
          <div key={s.id} className={`step${here ? ' here' : ''}${off ? ' off' : ''}`} data-step={s.operation}>
            <div className="top">
              <Checkbox
                aria-label={t('Mark {{title}} to compare', { title: s.title })}
                checked={marked.includes(s.id)}
                disabled={s.state !== 'done'}
                onChange={(e) => setMarked(e.target.checked ? [...marked, s.id].slice(-2) : marked.filter((m) => m !== s.id))}
              />
              <b>
                {s.title}
                {s.file ? `: ${s.file}` : ''}
              </b>
              <span className="soft figure">{s.reused ? t('known already') : s.milliseconds === null ? s.state : duration(s.milliseconds)}</span>
            </div>
            <div className="hint">
              {new Date(s.createdAt).toLocaleString()}
              {here ? t(', the job stands here') : off ? (s.state === 'done' ? t(', on another branch') : `, ${s.state}`) : ''}
            </div>
            {s.recordedWith && (
              <div className="hint">
                {t('recorded with {{scanner}}: {{state}}, {{reason}}', {
                  scanner: s.recordedWith.scanner,
                  state: s.recordedWith.state,
                  reason: s.recordedWith.reason,
                })}
              </div>
            )}
            {s.problem && (
              <div className="hint bad-news">
                {s.problem.detail} {s.problem.remedy}
              </div>
            )}
            <Settings params={s.params} />
            {!!s.evidence?.quantities.length && (
              <div className="hint figure">
                {s.evidence.quantities
                  .filter((q) => q.of === undefined || s.operation === 'flag')
                  .slice(0, 6)
                  .map(
                    (q) =>
                      `${q.name} ${formatValue(q)}${q.u === undefined ? '' : ` ${typeof q.u === 'number' ? formatU(q.u) : '± ?'}`}${q.unit ? ` ${q.unit}` : ''}`,
                  )
                  .join(' · ')}
              </div>
            )}
            {s.evidence?.warnings.map((w) => (
              <p key={w} className="note below">
                {w}
              </p>
            ))}
            {s.state === 'done' && (
              <div className="abreast below">
                {!here && (
                  <Button size="small" disabled={!!busy} onClick={() => void goTo(s.id)}>
                    {t('Go here')}
                  </Button>
                )}
                {!off && s.operation !== 'set-aside' && (
                  <Button size="small" disabled={!!busy} onClick={() => setEditing(s)}>
                    {t('Change and run on')}
                  </Button>
                )}
              </div>
            )}
          </div>
        )
      })}
      {steps.length > 0 && (
        <Button size="small" disabled={!!busy || state.head === null} onClick={() => void goTo(null)}>
          {t('To the very beginning')}
        </Button>
      )}
      {editing && <EditStep step={editing} after={path.length - 1 - path.findIndex((s) => s.id === editing.id)} onClose={() => setEditing(null)} />}
      {comparing && both.length === 2 && <Compare a={both[0]} b={both[1]} onClose={() => setComparing(false)} />}
    </Drawer>
  )
}

/** Settings that were given, in one line; places and loops are told by their number. */
function Settings({ params }: { params: Record<string, unknown> }) {
  const words = Object.entries(params).map(([k, v]) => {
    if (Array.isArray(v) && v.length === 0) return t('{{k}}: none', { k })
    if (Array.isArray(v))
      return `${k}: ${v.length <= 3 && v.every((x) => typeof x === 'number') ? v.map((x: number) => Number(fixed(x, 2))).join(' ') : t('{{v}} of them', { v: v.length })}`
    if (typeof v === 'object' && v) {
      const inside = Object.entries(v)
      if (!inside.length) return t('{{k}}: nothing', { k })
      return `${k}: ${inside.every(([, x]) => typeof x === 'number' || typeof x === 'string') ? inside.map(([name, x]) => `${name} ${String(x)}`).join(', ') : t('given')}`
    }
    return `${k}: ${typeof v === 'number' ? Number(v.toPrecision(6)) : String(v)}`
  })
  if (!words.length) return null
  return <div className="hint">{words.join(' · ')}</div>
}
