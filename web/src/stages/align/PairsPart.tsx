import { Button } from 'antd'
import { useEffect, useMemo } from 'react'
import { fitRigid } from '@oak-gauge/core/align/pairs.ts'
import { lastOf } from '@oak-gauge/contract'
import { useOpenJob } from '../../job/useJob.ts'
import { useStep } from '../../job/useStep.ts'
import { Numbers, StepProblem, Warnings, WorkCard } from '../../job/WorkCard.tsx'
import { useAppDispatch, useAppSelector } from '../../store.ts'
import { view } from '../../view/viewSlice.ts'
import { along, type SidesProps } from './ShapePart.tsx'
import { fixed } from '../../looks/quantity.ts'
import { t } from '../../words/t.ts'

/** Two views side by side; the same places picked on both. The result shows while pairs are picked. */
export function PairsPart({ head, anchor, loose, looseMaps, onDone }: SidesProps) {
  const { path } = useOpenJob()
  const dispatch = useAppDispatch()
  const pairs = useAppSelector((s) => s.view.pairs)
  const step = useStep()
  const slots = JSON.stringify([anchor.map((p) => p.slot), loose.map((p) => p.slot)])
  useEffect(() => {
    const [a, l] = JSON.parse(slots) as [string[], string[]]
    dispatch(view.pick({ kind: 'pairs', anchor: a, loose: l }))
    return () => {
      dispatch(view.pick({ kind: 'none' }))
      dispatch(view.pairs([]))
    }
  }, [dispatch, slots])
  const whole = useMemo(() => pairs.flatMap((p, i) => (p.loose && p.anchor ? [{ i, loose: p.loose.at, anchor: p.anchor.at }] : [])), [pairs])
  const fit = useMemo(
    () =>
      whole.length >= 3
        ? fitRigid(
            whole.flatMap((p) => p.loose),
            whole.flatMap((p) => p.anchor),
          )
        : null,
    [whole],
  )
  const residual = (i: number) => {
    const k = whole.findIndex((w) => w.i === i)
    return fit && k >= 0 ? `${fixed(fit.residuals[k], 2)} mm` : ''
  }
  const run = async () => {
    const made = await step.run({
      operation: 'align-pairs',
      inputs: { loose: loose.map((p) => p.slot), ...along(looseMaps) },
      params: { pairs: whole.map((p) => ({ loose: p.loose, anchor: p.anchor })) },
    })
    if (!made) return
    // settled exactly behind it; it starts when the pairs are done
    await step.run({ operation: 'align-fine', inputs: { anchor: anchor.map((p) => p.slot), loose: loose.map((p) => p.slot), ...along(looseMaps) } })
    dispatch(view.pairs([]))
  }
  const last = lastOf(path, 'align-fine')
  return (
    <WorkCard
      question={t('Which places are the same?')}
      about={t('Click a place at the left and the same at the right, three times or more, far apart. A millimetre off is good enough: the surfaces settle it.')}
      foot={
        <>
          <Button disabled={!pairs.length} onClick={() => dispatch(view.pairs([]))}>
            {t('Pick again')}
          </Button>
          <Button type="primary" disabled={!fit || step.running} onClick={() => void run()}>
            {t('Align by {{whole}} pairs', { whole: whole.length || '' })}
          </Button>
        </>
      }
    >
      {head}
      {pairs.map((p, i) => (
        <div className="pair" key={i}>
          <b>{i + 1}</b>
          <span className="soft">{p.anchor && p.loose ? t('both sides') : p.anchor ? t('now at the right') : t('now at the left')}</span>
          <span className="figure">{residual(i)}</span>
          <Button size="small" aria-label={t('Drop pair {{i}}', { i: i + 1 })} onClick={() => dispatch(view.pairs(pairs.filter((_, k) => k !== i)))}>
            ×
          </Button>
        </div>
      ))}
      {fit && (
        <dl className="rows" data-evidence="live-pairs">
          <dt>{t('Pairs, rms')}</dt>
          <dd data-quantity="pairs-rms">{fixed(fit.rms, 2)} mm</dd>
          <dt>{t('Largest')}</dt>
          <dd>{fixed(fit.max, 2)} mm</dd>
        </dl>
      )}
      {fit?.turnFree && <p className="note">{t('All places lie on one line: pick one more to the side.')}</p>}
      <StepProblem of={step} />
      {last && !step.running && !pairs.length && (
        <>
          <h3>{t('Settled')}</h3>
          <Numbers step={last} limit={3} />
          <Warnings step={last} />
          <Button onClick={onDone}>{t('On to all passes')}</Button>
        </>
      )}
    </WorkCard>
  )
}
