import { Button } from 'antd'
import { useEffect, useState, type ReactNode } from 'react'
import { useStep } from '../../job/useStep.ts'
import { Numbers, StepProblem, WorkCard } from '../../job/WorkCard.tsx'
import { Amount } from '../../looks/Amount.tsx'
import { useAppDispatch } from '../../store.ts'
import { view } from '../../view/viewSlice.ts'
import { Toggle, type ToolProps } from './CleanCard.tsx'
import { t } from '../../words/t.ts'

/** Strays and islands: looked for on all points by the server, marked, then taken away. */
export function StatisticTool({ passes, next, question, head, operation }: ToolProps & { question: string; head: ReactNode; operation: 'strays' | 'islands' }) {
  const dispatch = useAppDispatch()
  const [sigmas, setSigmas] = useState(4)
  const [smallest, setSmallest] = useState(2)
  const [largestOnly, setLargestOnly] = useState(false)
  const look = useStep()
  const act = useStep()
  const request = {
    operation,
    inputs: { passes: passes.map((p) => p.slot) },
    params: operation === 'strays' ? { sigmas } : { smallest: smallest / 100, largestOnly },
  }
  const settings = JSON.stringify(request)
  const [lookedAt, setLookedAt] = useState('')
  const found = look.step?.state === 'done' && lookedAt === settings ? look.step : undefined
  const foundId = found?.id
  useEffect(() => {
    dispatch(view.going(foundId ? { kind: 'step', step: foundId } : { kind: 'none' }))
  }, [foundId, dispatch])
  const search = async () => {
    look.forget()
    setLookedAt(settings)
    await look.run({ ...request, preview: true })
  }
  const remove = async () => {
    look.forget()
    await act.run(request)
  }
  const gone = found?.evidence?.quantities.find((q) => q.id === 'points-gone')?.value
  return (
    <WorkCard
      question={question}
      foot={
        <>
          <Button onClick={next}>{t('Go on to Align')}</Button>
          <Button type="primary" disabled={act.running || look.running || gone === 0} onClick={() => void remove()}>
            {t('Take away')}
          </Button>
        </>
      }
    >
      {head}
      {operation === 'strays' ? (
        <>
          <p className="soft">{t('Single points that lie far from their neighbours: reflections, dust, the edge of a shadow.')}</p>
          <Amount
            label={t('Stray beyond')}
            unit=""
            value={sigmas}
            usual={4}
            onChange={setSigmas}
            reason={t('times the usual spread of distances to the neighbours; lower takes more')}
          />
        </>
      ) : (
        <>
          <p className="soft">{t('Groups of points that hang together with nothing else: a clamp, a crumb, what lay on the table.')}</p>
          <Toggle label={t('Keep only the largest group')} value={largestOnly} onChange={setLargestOnly} />
          {!largestOnly && <Amount label={t('Island below')} unit="%" value={smallest} usual={2} onChange={setSmallest} reason={t('of the largest group')} />}
        </>
      )}
      {!found && (
        <Button disabled={look.running} onClick={() => void search()}>
          {t('Look first')}
        </Button>
      )}
      {found && (
        <>
          <p>{gone === 0 ? t('Nothing would go.') : t('Hatched points would go.')}</p>
          <Numbers step={found} />
        </>
      )}
      <StepProblem of={look} />
      <StepProblem of={act} />
      {act.step?.state === 'done' && !found && (
        <>
          <h3>{t('Taken away')}</h3>
          <Numbers step={act.step} />
        </>
      )}
    </WorkCard>
  )
}
