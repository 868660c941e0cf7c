import { Button } from 'antd'
import type { ReactNode } from 'react'
import { lastOf, type TrayItem } from '@oak-gauge/contract'
import { useOpenJob } from '../../job/useJob.ts'
import { useMotions } from '../../job/useMotions.ts'
import { useStep } from '../../job/useStep.ts'
import { Numbers, StepProblem, Warnings, WorkCard } from '../../job/WorkCard.tsx'
import { t } from '../../words/t.ts'

/** Marker maps that stand in the axes of what moves, and go along, as inputs of a step. */
export const along = (maps: TrayItem[]): { maps?: string[] } => (maps.length ? { maps: maps.map((m) => m.slot) } : {})

export interface SidesProps {
  head: ReactNode
  anchor: TrayItem[]
  loose: TrayItem[]
  /** go along with the loose side */
  looseMaps: TrayItem[]
  onDone(): void
}

export function ShapePart({ head, anchor, loose, looseMaps, onDone, onPairs }: SidesProps & { onPairs(): void }) {
  const { path } = useOpenJob()
  const step = useStep()
  const last = lastOf(path, 'align-shape')
  useMotions(last)
  const run = () =>
    void step.run({ operation: 'align-shape', inputs: { anchor: anchor.map((p) => p.slot), loose: loose.map((p) => p.slot), ...along(looseMaps) } })
  return (
    <WorkCard
      question={t('How do the setups lie together?')}
      about={t('The shape alone tells how the loose setup lies on the anchor, from any start. Where it does not tell, it says so.')}
      foot={
        <>
          {last ? (
            <Button type="primary" onClick={onDone}>
              {t('On to all passes')}
            </Button>
          ) : (
            <Button onClick={onPairs}>{t('Pick pairs instead')}</Button>
          )}
          <Button type={last ? 'default' : 'primary'} disabled={step.running || !anchor.length || !loose.length} onClick={run}>
            {t('Align by shape')}
          </Button>
        </>
      }
    >
      {head}
      <StepProblem of={step} />
      {last && !step.running && (
        <>
          <h3>{t('Found')}</h3>
          <Numbers step={last} />
          <Warnings step={last} />
        </>
      )}
    </WorkCard>
  )
}
