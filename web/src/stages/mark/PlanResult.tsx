import { Button, Select } from 'antd'
import type { ReactNode } from 'react'
import type { Step, TrayItem } from '@oak-gauge/contract'
import { PERCHES } from '@oak-gauge/core/markers/markers.ts'
import { API, addressOf } from '@oak-gauge/contract'
import type { RunningStep } from '../../job/useStep.ts'
import { StepProblem, WorkCard } from '../../job/WorkCard.tsx'
import { useAppDispatch, useAppSelector } from '../../store.ts'
import { mark, type Judged, type PlanMarker } from './markSlice.ts'
import { nearestOther } from './markers.ts'
import type { Settings } from './plansettings.ts'
import { ViewSphere } from './ViewSphere.tsx'
import { fixed } from '../../looks/quantity.ts'
import { t } from '../../words/t.ts'

const SITS: Record<PlanMarker['perch'], string> = {
  part: t('part'),
  table: t('table'),
  'block-30': t('block 30°'),
  'block-45': t('block 45°'),
  tower: t('tower'),
}

interface Props {
  head: ReactNode
  plan: TrayItem | undefined
  markers: readonly PlanMarker[]
  judged: Judged | null
  settings: Settings
  step: RunningStep
  last: Step | undefined
  onChange(): void
  onKeep(): void
  onAgain(): void
  onMap(): void
}

/** A plan: what it is worth from every side, where each marker goes, and changing it by hand. */
export function PlanResult({ head, plan, markers, judged, settings: s, step, last, onChange, onKeep, onAgain, onMap }: Props) {
  const dispatch = useAppDispatch()
  const { draft, selected, adding, ground } = useAppSelector((st) => st.mark)
  const count = (d: number) => markers.filter((m) => m.diameter === d).length
  const v = judged?.verdict
  // the step knows more than the live verdict: how near edges came
  const warnings = draft ? (v?.warnings ?? []) : (last?.evidence?.warnings ?? [])
  const alike = v?.lookAlikes[0]
  const names = (list: number[]) => list.map((i) => markers[i]?.id).join(', ')
  const own = markers.find((m) => m.id === selected)
  return (
    <WorkCard
      question={draft ? t('Drag the markers; what changes is said at once') : t('{{markers}} markers', { markers: markers.length })}
      foot={
        draft ? (
          <>
            <Button type="primary" disabled={step.running} onClick={onKeep}>
              {t('Keep these changes')}
            </Button>
            <Button onClick={() => dispatch(mark.draft(null))}>{t('Leave it as it was')}</Button>
          </>
        ) : (
          <>
            <Button type="primary" onClick={onMap}>
              {t('Stuck: map them')}
            </Button>
            <Button onClick={onChange}>{t('Change by hand')}</Button>
          </>
        )
      }
    >
      {head}
      {v && judged ? (
        <>
          <dl className="rows" data-evidence="plan">
            <dt>{t('directions with {{least}} or more', { least: s.least })}</dt>
            <dd data-quantity="enough">{fixed(100 * v.enough, 0)} %</dd>
            <dt>{t('with {{wanted}} or more', { wanted: s.wanted })}</dt>
            <dd data-quantity="comfortable">{fixed(100 * v.comfortable, 0)} %</dd>
            <dt>{t('3 mm / 6 mm')}</dt>
            <dd data-quantity="sizes">
              {count(3)} / {count(6)}
            </dd>
          </dl>
          <ViewSphere judged={judged} least={s.least} wanted={s.wanted} />
        </>
      ) : (
        <p className="hint">{t('Looking at it from all sides')}</p>
      )}
      {alike && (
        <p className="note" data-alike>
          {t('Markers {{one}} look like {{other}}{{lookAlikes}}: move one by a centimetre.', {
            one: names(alike.one),
            other: names(alike.other),
            lookAlikes: v && v.lookAlikes.length > 1 ? t(', and {{lookAlikes}} more groups', { lookAlikes: v.lookAlikes.length - 1 }) : '',
          })}
        </p>
      )}
      {warnings.map((w) => (
        <p className="note" key={w}>
          {w}
        </p>
      ))}
      {draft && (
        <div className="stack">
          <div className="abreast">
            <Button size="small" aria-pressed={adding} onClick={() => dispatch(mark.adding(!adding))}>
              {adding ? t('No more') : t('Add')}
            </Button>
            <Button size="small" disabled={!own} onClick={() => own && dispatch(mark.removed(own.id))}>
              {t('Remove {{id}}', { id: own?.id ?? '' })}
            </Button>
            {own && (
              <Select
                size="small"
                aria-label={t('Size of marker {{id}}', { id: own.id })}
                value={own.diameter}
                onChange={(diameter) => dispatch(mark.sized({ id: own.id, diameter }))}
                options={[3, 6].map((d) => ({ value: d, label: `${d} mm` }))}
              />
            )}
          </div>
          <p className="hint">
            {own
              ? t('{{id}} sits on the {{perch}}{{clear}}. ', {
                  id: own.id,
                  perch: SITS[own.perch],
                  clear:
                    ground && own.perch === 'part'
                      ? t(', {{clearEdge}} from an edge{{bend}}', {
                          clearEdge: ground.clear >= s.clearEdge ? t('{{clearEdge}} mm or more', { clearEdge: s.clearEdge }) : `${ground.clear} mm`,
                          bend: ground.bend > 0.25 ? t(', on curved ground') : '',
                        })
                      : '',
                })
              : ''}
            {adding
              ? t('Click where the next one should go, on the part or on the table.')
              : own
                ? ''
                : t('Take one with the mouse, or choose it in the list.')}
          </p>
        </div>
      )}
      <StepProblem of={step} />
      <MarkerList markers={markers} selected={selected} onSelect={(id) => dispatch(mark.selected(id))} />
      <div className="abreast">
        {plan && !draft && (
          <Button size="small" href={addressOf(API.placement, { id: plan.id })} target="_blank" rel="noreferrer">
            {t('Sheet to print')}
          </Button>
        )}
        {plan && !draft && (
          <Button size="small" href={addressOf(API.file, { id: plan.id }, { format: 'csv' })}>
            {t('As a list')}
          </Button>
        )}
        {!draft && (
          <Button size="small" onClick={onAgain}>
            {t('Other settings')}
          </Button>
        )}
      </div>
    </WorkCard>
  )
}

function MarkerList({ markers, selected, onSelect }: { markers: readonly PlanMarker[]; selected: string | null; onSelect(id: string): void }) {
  const order = [...markers].sort((a, b) => PERCHES.indexOf(a.perch) - PERCHES.indexOf(b.perch))
  return (
    <div className="list">
      <table className="numbers">
        <thead>
          <tr>
            <th>{t('no.')}</th>
            <th>mm</th>
            <th>{t('sits on')}</th>
            <th>{t('nearest, mm')}</th>
          </tr>
        </thead>
        <tbody>
          {order.map((m) => {
            const near = nearestOther(markers, m)
            return (
              <tr key={m.id} className={m.id === selected ? 'on' : ''} onClick={() => onSelect(m.id)}>
                <th>
                  <button type="button" className="plain" aria-label={t('Marker {{id}}', { id: m.id })} onClick={() => onSelect(m.id)}>
                    {m.id}
                  </button>
                </th>
                <td>{m.diameter}</td>
                <td>{SITS[m.perch]}</td>
                <td data-nearest={m.id}>{near ? `${fixed(near.distance, 0)} (${near.id})` : ''}</td>
              </tr>
            )
          })}
        </tbody>
      </table>
    </div>
  )
}
