import { Button } from 'antd'
import { useEffect, type ReactNode } from 'react'
import { lastOf, quantity, type Stage } from '@oak-gauge/contract'
import { useOpenJob } from '../../job/useJob.ts'
import { useMotions } from '../../job/useMotions.ts'
import { useStep } from '../../job/useStep.ts'
import { Numbers, StepProblem, Warnings, WorkCard } from '../../job/WorkCard.tsx'
import type { QuantityId } from '@oak-gauge/core/operations/quantities.ts'
import { formatValue, type Shown } from '../../looks/quantity.ts'
import { useAppDispatch, useAppSelector } from '../../store.ts'
import { view } from '../../view/viewSlice.ts'
import { setupMaps } from './MarkersPart.tsx'
import { along } from './ShapePart.tsx'
import { Toggle } from '../clean/CleanCard.tsx'
import { t } from '../../words/t.ts'

/** Joint adjustment: shares the remaining error among all passes, and says how large it is, pass by pass and pair by pair. */
export function AdjustPart({ head, go }: { head: ReactNode; go(stage: Stage): void }) {
  const { path, passes, state } = useOpenJob()
  const dispatch = useAppDispatch()
  const map = useAppSelector((s) => s.view.map)
  const step = useStep()
  const last = lastOf(path, 'adjust')
  useMotions(last)
  const gaps = last && state.tray.find((i) => i.kind === 'field' && i.step === last.id)
  const rms = quantity(last, 'gap-between-passes-rms')?.value
  useEffect(
    () => () => {
      dispatch(view.colours({ map: null }))
      dispatch(view.unhide(passes.map((p) => p.slot)))
    },
    // eslint-disable-next-line react-hooks/exhaustive-deps -- on leaving
    [dispatch],
  )
  const showMap = (on: boolean) => {
    if (!gaps) return
    const r = typeof rms === 'number' ? rms : 0.01
    dispatch(view.colours(on ? { map: gaps.slot, limit: 1.5 * r, scale: 4 * r } : { map: null }))
    const slots = passes.map((p) => p.slot)
    dispatch(on ? view.hide({ slots, hidden: true }) : view.unhide(slots))
  }
  const maps = setupMaps(state.tray)
  const run = () =>
    void step.run({
      operation: 'adjust',
      inputs: { passes: passes.map((p) => p.slot), ...along(state.tray.filter((i) => i.role === 'marker-map' && passes.some((p) => p.setup === i.setup))) },
    })
  const of = last?.evidence?.quantities ?? []
  const value = (id: QuantityId, who: string) => of.find((q) => q.id === id && q.of === who)
  const pairs = [...new Set(of.filter((q) => q.id === 'pair-rms').map((q) => q.of ?? ''))]
  return (
    <WorkCard
      question={t('How well do the passes agree?')}
      about={t('All overlapping passes are adjusted at once, the first stays put. What remains is shared, and sets how fine the merge may be.')}
      foot={
        <>
          {last && (
            <Button type="primary" onClick={() => go('Merge')}>
              {t('Go on to Merge')}
            </Button>
          )}
          <Button type={last ? 'default' : 'primary'} disabled={step.running} onClick={run}>
            {last ? t('Adjust once more') : t('Adjust {{passes}} passes', { passes: passes.length })}
          </Button>
        </>
      }
    >
      {head}
      {maps.length > 0 && <p className="hint">{t('The markers of {{maps}} setups hold them too, beside the surface.', { maps: maps.length })}</p>}
      <StepProblem of={step} />
      {last && !step.running && (
        <>
          <Numbers step={last} limit={quantity(last, 'markers-in-common') ? 5 : 3} />
          <Warnings step={last} />
          {gaps && <Toggle label={t('Show the gaps as a map')} value={map === gaps.slot} onChange={showMap} />}
          <Gaps what="Pass" columns={{ rms: 'gap-rms', largest: 'gap-largest', moved: 'moved' }} rows={passes.map((p) => p.name)} value={value} />
          <details className="fine">
            <summary>{t('{{pairs}} pairs of passes', { pairs: pairs.length })}</summary>
            <Gaps what="Pair" columns={{ rms: 'pair-rms', mean: 'pair-mean', largest: 'pair-largest' }} rows={pairs} value={value} />
          </details>
        </>
      )}
    </WorkCard>
  )
}

interface GapsProps {
  what: 'Pass' | 'Pair'
  /** heading to the quantity below it */
  columns: Record<string, QuantityId>
  rows: string[]
  value(id: QuantityId, who: string): Shown | undefined
}

/** Numbers of an adjustment, a line for each pass or pair. */
function Gaps({ what, columns, rows, value }: GapsProps) {
  return (
    <table className="gaps">
      <thead>
        <tr className="soft">
          <th align="left">{what}</th>
          {Object.keys(columns).map((c) => (
            <th key={c} align="right">
              {c}
            </th>
          ))}
        </tr>
      </thead>
      <tbody>
        {rows.map((who) => (
          <tr key={who} {...(what === 'Pass' ? { 'data-pass': who } : {})}>
            <td>{what === 'Pair' ? who.replaceAll('Pass ', '') : who}</td>
            {Object.values(columns).map((id) => {
              const q = value(id, who)
              return (
                <td key={id} align="right" className="figure">
                  {q ? formatValue(q) : '–'}
                </td>
              )
            })}
          </tr>
        ))}
      </tbody>
    </table>
  )
}
