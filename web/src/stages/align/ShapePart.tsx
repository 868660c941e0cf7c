import { Button } from 'antd'
import type { ReactNode } from 'react'
import type { TrayItem } from '@oak-gauge/contract'
import { lastOf } from '@oak-gauge/contract'
import { useOpenJob } from '../../job/useJob.ts'
import { useMotions } from '../../job/useMotions.ts'
import { useStep } from '../../job/useStep.ts'
import { Numbers, StepProblem, Warnings, WorkCard } from '../../job/WorkCard.tsx'
import { t } from '../../words/t.ts'

/** Marker maps of the setups that move: they stand in the same axes as the passes, and go along. */
export function along(tray: TrayItem[], loose: TrayItem[]): { maps?: string[] } {
  const maps = tray.filter((i) => i.role === 'marker-map' && loose.some((p) => p.setup === i.setup))
  return maps.length ? { maps: maps.map((m) => m.slot) } : {}
}

export interface SidesProps {
  head: ReactNode
  anchor: TrayItem[]
  loose: TrayItem[]
  onDone(): void
}

export function ShapePart({ head, anchor, loose, onDone, onPairs }: SidesProps & { onPairs(): void }) {
  const { path, state } = useOpenJob()
  const step = useStep()
  const last = lastOf(path, 'align-shape')
  useMotions(last)
  const run = () =>
    void step.run({ operation: 'align-shape', inputs: { anchor: anchor.map((p) => p.slot), loose: loose.map((p) => p.slot), ...along(state.tray, loose) } })
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
