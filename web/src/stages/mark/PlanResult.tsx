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

const SITS: Record<PlanMarker['perch'], string> = { part: 'part', table: 'table', 'block-30': 'block 30°', 'block-45': 'block 45°', tower: 'tower' }

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
      question={draft ? 'Drag the markers; what changes is said at once' : `${markers.length} markers`}
      foot={
        draft ? (
          <>
            <Button type="primary" disabled={step.running} onClick={onKeep}>
              Keep these changes
            </Button>
            <Button onClick={() => dispatch(mark.draft(null))}>Leave it as it was</Button>
          </>
        ) : (
          <>
            <Button type="primary" onClick={onMap}>
              Stuck: map them
            </Button>
            <Button onClick={onChange}>Change by hand</Button>
          </>
        )
      }
    >
      {head}
      {v && judged ? (
        <>
          <dl className="rows" data-evidence="plan">
            <dt>directions with {s.least} or more</dt>
            <dd data-quantity="enough">{fixed(100 * v.enough, 0)} %</dd>
            <dt>with {s.wanted} or more</dt>
            <dd data-quantity="comfortable">{fixed(100 * v.comfortable, 0)} %</dd>
            <dt>3 mm / 6 mm</dt>
            <dd data-quantity="sizes">
              {count(3)} / {count(6)}
            </dd>
          </dl>
          <ViewSphere judged={judged} least={s.least} wanted={s.wanted} />
        </>
      ) : (
        <p className="hint">Looking at it from all sides</p>
      )}
      {alike && (
        <p className="note" data-alike>
          Markers {names(alike.one)} look like {names(alike.other)}
          {v && v.lookAlikes.length > 1 ? `, and ${v.lookAlikes.length - 1} more groups` : ''}: move one by a centimetre.
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
              {adding ? 'No more' : 'Add'}
            </Button>
            <Button size="small" disabled={!own} onClick={() => own && dispatch(mark.removed(own.id))}>
              Remove {own?.id ?? ''}
            </Button>
            {own && (
              <Select
                size="small"
                aria-label={`Size of marker ${own.id}`}
                value={own.diameter}
                onChange={(diameter) => dispatch(mark.sized({ id: own.id, diameter }))}
                options={[3, 6].map((d) => ({ value: d, label: `${d} mm` }))}
              />
            )}
          </div>
          <p className="hint">
            {own
              ? `${own.id} sits on the ${SITS[own.perch]}${ground && own.perch === 'part' ? `, ${ground.clear >= s.clearEdge ? `${s.clearEdge} mm or more` : `${ground.clear} mm`} from an edge${ground.bend > 0.25 ? ', on curved ground' : ''}` : ''}. `
              : ''}
            {adding ? 'Click where the next one should go, on the part or on the table.' : own ? '' : 'Take one with the mouse, or choose it in the list.'}
          </p>
        </div>
      )}
      <StepProblem of={step} />
      <MarkerList markers={markers} selected={selected} onSelect={(id) => dispatch(mark.selected(id))} />
      <div className="abreast">
        {plan && !draft && (
          <Button size="small" href={addressOf(API.placement, { id: plan.id })} target="_blank" rel="noreferrer">
            Sheet to print
          </Button>
        )}
        {plan && !draft && (
          <Button size="small" href={addressOf(API.file, { id: plan.id }, { format: 'csv' })}>
            As a list
          </Button>
        )}
        {!draft && (
          <Button size="small" onClick={onAgain}>
            Other settings
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
            <th>no.</th>
            <th>mm</th>
            <th>sits on</th>
            <th>nearest, mm</th>
          </tr>
        </thead>
        <tbody>
          {order.map((m) => {
            const near = nearestOther(markers, m)
            return (
              <tr key={m.id} className={m.id === selected ? 'on' : ''} onClick={() => onSelect(m.id)}>
                <th>
                  <button type="button" className="plain" aria-label={`Marker ${m.id}`} onClick={() => onSelect(m.id)}>
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
