import { Button, Popover } from 'antd'
import { useState } from 'react'
import type { Step, TrayItem } from '@oak-gauge/contract'
import { problemOf, useRerunStepMutation } from '../../api.ts'
import { Under } from '../../job/Under.tsx'
import { useOpenJob } from '../../job/useJob.ts'
import { ProblemBox } from '../../looks/ProblemBox.tsx'
import { RAISE, type Floor } from './FloorPart.tsx'
import { PlaceAnew, type Chosen } from './PlaceAnew.tsx'
import { TimeLine } from './TimeLine.tsx'
import { t } from '../../words/t.ts'

type Span = [number, number]
const spansOf = (step: Step): Span[] => (step.params['without'] ?? []) as Span[]
const chosenOf = ({ params, evidence }: Step): Chosen => ({
  spacing: Number(params['spacing'] ?? evidence?.quantities.find((q) => q.id === 'surface-spacing')?.value ?? 1),
  near: (params['near'] as number | undefined) ?? null,
  far: (params['far'] as number | undefined) ?? null,
})

const floorOf = ({ params }: Step): Floor => ({
  floor: (params['floor'] ?? 'none') as Floor['floor'],
  floorMarkers: (params['floorMarkers'] ?? []) as string[],
  raise: Number(params['raise'] ?? RAISE),
})

const NOT_SAID = { floor: undefined, floorMarkers: undefined, raise: undefined }
const saidOf = (f: Floor | undefined) => (!f || f.floor === 'none' ? NOT_SAID : { ...f, floorMarkers: f.floor === 'markers' ? f.floorMarkers : undefined })

/** The step that made a pass of a recording, on the present branch. */
export const recordedBy = (path: Step[], pass: TrayItem): Step | undefined =>
  path.findLast((s) => s.operation === 'solve-recording' && s.evidence?.timeline && (s.outputs['pass'] ?? []).includes(pass.slot))

/** How a pass was recorded. What is left out is solved without it, and what came after it in the ledger is done once more; the branch left behind stays. */
export function RecordedPass({ step, pass }: { step: Step; pass: TrayItem }) {
  const { state, path, busy } = useOpenJob()
  const [draft, setDraft] = useState<Span[] | null>(null)
  const [rerun, { error, isLoading }] = useRerunStepMutation()
  const problem = problemOf(error)
  const line = step.evidence?.timeline
  if (!line) return null
  const after = path.length - 1 - path.indexOf(step)
  const changed = draft !== null && JSON.stringify(draft) !== JSON.stringify(spansOf(step))
  const again = (params: object) =>
    void rerun({ id: state.job.id, step: step.id, params: { ...step.params, ...params } }).then((r) => !r.error && setDraft(null))
  const label = after ? t('Solve again, and the {{after}} after it', { after }) : t('Solve again')
  return (
    <Under>
      {/* what was cleaned or thinned since does not lie in the order of time any more */}
      <TimeLine line={line} slot={pass.step === step.id ? pass.slot : null} without={draft ?? spansOf(step)} change={busy ? null : setDraft}>
        <Popover
          trigger="click"
          placement="topRight"
          destroyOnHidden
          content={
            <PlaceAnew
              was={chosenOf(step)}
              floor={floorOf(step)}
              busy={isLoading || busy !== undefined}
              // what is not limited is not said
              place={({ spacing, near, far }, floor) =>
                again({ spacing, near: near ?? undefined, far: far ?? undefined, ...saidOf(floor), ...(draft ? { without: draft } : {}) })
              }
              label={label}
            />
          }
        >
          <Button size="small">{t('Spacing, floor, limits')}</Button>
        </Popover>
        {changed && (
          <>
            <Button size="small" type="primary" loading={isLoading} onClick={() => again({ without: draft })}>
              {label}
            </Button>
            <Button size="small" onClick={() => setDraft(null)}>
              {t('As it was')}
            </Button>
          </>
        )}
      </TimeLine>
      {problem && <ProblemBox problem={problem} />}
    </Under>
  )
}
