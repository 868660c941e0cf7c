import { Button, Input } from 'antd'
import { useEffect, useState } from 'react'
import { lastOf } from '@oak-gauge/contract'
import { useOpenJob } from '../../job/useJob.ts'
import { useStep } from '../../job/useStep.ts'
import { StepProblem, Warnings, WorkCard, Numbers } from '../../job/WorkCard.tsx'
import { Amount } from '../../looks/Amount.tsx'
import { useAppDispatch, useAppSelector } from '../../store.ts'
import { view } from '../../view/viewSlice.ts'
import type { CardProps } from '../cards.ts'
import { BudgetTable, NotKnown, type Stated } from './Budget.tsx'
import { Distribution } from './Distribution.tsx'
import { t } from '../../words/t.ts'

/** The deviation map, its limits, its distribution, and flags at picked spots. */
export function InspectCard({ go }: CardProps) {
  const { meshes, nominals, path, state, deviation } = useOpenJob()
  const dispatch = useAppDispatch()
  const picking = useAppSelector((s) => s.view.picking)
  const places = useAppSelector((s) => s.view.places)
  const last = lastOf(path, 'deviation')
  const given = last?.params as { limit?: number; scale?: number } | undefined
  const half = state.job.tolerance === null ? 0.1 : state.job.tolerance / 2
  const [limit, setLimit] = useState(given?.limit ?? half)
  const [scale, setScale] = useState(given?.scale ?? Math.max(1, 4 * half))
  const [label, setLabel] = useState('')
  const flags = path.slice(path.findLastIndex((s) => s.operation === 'deviation') + 1).filter((s) => s.operation === 'flag')
  const [stated, setStated] = useState<Stated>((lastOf(path, 'flag')?.params['stated'] as Stated | undefined) ?? {})
  const step = useStep()
  const flag = useStep()
  const mesh = meshes.at(-1)
  const nominal = nominals.at(-1)
  const field = deviation?.slot ?? null
  useEffect(() => {
    dispatch(view.colours({ map: field, limit, scale }))
  }, [dispatch, field, limit, scale])
  useEffect(() => {
    return () => {
      dispatch(view.colours({ map: null }))
      dispatch(view.pick({ kind: 'none' }))
    }
  }, [dispatch])
  const place = picking.kind === 'flag' ? places[0] : undefined
  const { run } = flag
  useEffect(() => {
    if (!place || !field || !mesh) return
    dispatch(view.places([]))
    dispatch(view.pick({ kind: 'none' }))
    void run({
      operation: 'flag',
      inputs: { field: [field], on: [mesh.slot], ...(nominal ? { nominal: [nominal.slot] } : {}) },
      params: { at: place.at, label, limit, stated },
    })
    setLabel('')
    // eslint-disable-next-line react-hooks/exhaustive-deps -- once for each picked spot
  }, [place])
  if (!mesh || !nominal)
    return (
      <WorkCard
        question={t('How far is the part from its nominal?')}
        foot={
          <Button type="primary" onClick={() => go(mesh ? 'Capture' : 'Merge')}>
            {mesh ? t('Bring in a nominal') : t('Go to Merge')}
          </Button>
        }
      >
        <p>
          {t('Here every spot of the part is compared with its nominal. {{mesh}}', { mesh: mesh ? t('There is no nominal yet.') : t('There is no mesh yet.') })}
        </p>
      </WorkCard>
    )
  const settled = last && given?.limit === limit && given.scale === scale
  const flagging = picking.kind === 'flag'
  return (
    <WorkCard
      question={t('How far is the part from its nominal?')}
      about={
        !lastOf(path, 'best-fit') ? t('The part has not been laid on its nominal yet: do that in Datum first, unless both share their coordinates.') : undefined
      }
      foot={
        last ? (
          <>
            <Button disabled={flag.running || !field} onClick={() => dispatch(view.pick(flagging ? { kind: 'none' } : { kind: 'flag' }))}>
              {flagging ? t('No flag') : t('Place a flag')}
            </Button>
            {settled ? (
              <Button type="primary" onClick={() => go('Deliver')}>
                {t('Go on to Deliver')}
              </Button>
            ) : (
              <Button
                type="primary"
                disabled={step.running}
                onClick={() => void step.run({ operation: 'deviation', inputs: { measured: [mesh.slot], nominal: [nominal.slot] }, params: { limit, scale } })}
              >
                {t('Compare with these limits')}
              </Button>
            )}
          </>
        ) : (
          <Button
            type="primary"
            disabled={step.running}
            onClick={() => void step.run({ operation: 'deviation', inputs: { measured: [mesh.slot], nominal: [nominal.slot] }, params: { limit, scale } })}
          >
            {t('Compare')}
          </Button>
        )
      }
    >
      <Amount
        label={t('Fine inside')}
        plusMinus
        value={limit}
        usual={half}
        onChange={setLimit}
        reason={state.job.tolerance === null ? t('no tolerance in the brief') : t('half of the tolerance in the brief')}
      />
      <Amount label={t('Scale to')} plusMinus value={scale} usual={Math.max(1, 4 * half)} onChange={(v) => setScale(Math.max(v, limit * 1.01))} />
      {flagging && (
        <div className="field">
          <label htmlFor="i-label">{t('Name of the spot')}</label>
          <Input id="i-label" className="wide" value={label} maxLength={60} placeholder={t('may be left empty')} onChange={(e) => setLabel(e.target.value)} />
          <span className="reason">{t('Now click the spot.')}</span>
        </div>
      )}
      {last && (flagging || flags.length > 0) && <NotKnown path={path} slot={mesh.slot} stated={stated} onChange={setStated} />}
      {flags.length > 0 && <BudgetTable flag={flags[flags.length - 1]} number={flags.length} />}
      <StepProblem of={step} />
      <StepProblem of={flag} />
      {last && !step.running && (
        <>
          {last.evidence?.histogram && <Distribution histogram={last.evidence.histogram} limit={given?.limit ?? limit} scale={given?.scale ?? scale} />}
          <Numbers step={last} limit={8} />
          <Warnings step={last} />
        </>
      )}
      {flag.step?.state === 'done' && <Warnings step={flag.step} />}
    </WorkCard>
  )
}
