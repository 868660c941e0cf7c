import { Button, Segmented } from 'antd'
import { useEffect, useState, type ReactNode } from 'react'
import { useStep } from '../../job/useStep.ts'
import { Numbers, StepProblem, WorkCard } from '../../job/WorkCard.tsx'
import { useAppDispatch, useAppSelector } from '../../store.ts'
import { view } from '../../view/viewSlice.ts'
import { Toggle, type ToolProps } from './CleanCard.tsx'
import { t } from '../../words/t.ts'
import { Words } from '../../words/Words.tsx'

/** Depth that counts as the front, mm: as thick as a pass and its noise. */
const FRONT = 4

/** Loops drawn on the view, each kept with its camera; right through or the front only. */
export function LassoTool({ passes, next, question, head }: ToolProps & { question: string; head: ReactNode }) {
  const dispatch = useAppDispatch()
  const loops = useAppSelector((s) => s.view.loops)
  const [front, setFront] = useState(false)
  const [invert, setInvert] = useState(false)
  const [mode, setMode] = useState<'add' | 'remove'>('add')
  const look = useStep()
  const act = useStep()
  useEffect(() => {
    dispatch(view.pick({ kind: 'lasso', mode }))
    return () => void dispatch(view.pick({ kind: 'none' }))
  }, [dispatch, mode])
  const request = {
    operation: 'lasso',
    inputs: { passes: passes.map((p) => p.slot) },
    params: { loops: loops.map((l) => ({ ...l, ...(front ? { frontDepth: FRONT } : {}) })), invert },
  }
  const settings = JSON.stringify(request)
  const { run, forget } = look
  useEffect(() => {
    if (!loops.length) return
    // a moment, so that two loops in a row are looked at once
    const t = setTimeout(() => void run({ ...(JSON.parse(settings) as typeof request), preview: true }), 250)
    return () => clearTimeout(t)
    // eslint-disable-next-line react-hooks/exhaustive-deps -- settings says all of the request
  }, [settings, run])
  const found = loops.length && look.step?.state === 'done' ? look.step : undefined
  const foundId = found?.id
  useEffect(() => {
    dispatch(view.going(foundId ? { kind: 'step', step: foundId } : { kind: 'none' }))
  }, [foundId, dispatch])
  const clear = () => {
    dispatch(view.loops([]))
    forget()
  }
  return (
    <WorkCard
      question={question}
      foot={
        <>
          <Button onClick={next}>{t('Go on to Align')}</Button>
          <Button type="primary" disabled={!found || act.running || look.running} onClick={() => void act.run(request).then(clear)}>
            {t('Take away')}
          </Button>
        </>
      }
    >
      {head}
      <p className="soft">
        <Words
          of={'Draw a loop around it. Right drag shifts the view, the wheel comes nearer, the keys <key>1</key> to <key>6</key> turn it.'}
          parts={{ key: <span className="key" /> }}
        />
      </p>
      <Segmented
        block
        value={mode}
        onChange={setMode}
        options={[
          { value: 'add', label: t('Loop adds') },
          { value: 'remove', label: t('Loop takes out') },
        ]}
      />
      <Toggle label={t('Front only')} value={front} onChange={setFront} reason={t('spares what lies behind; else right through')} />
      <Toggle label={t('Invert')} value={invert} onChange={setInvert} reason={t('keep what is inside, take away the rest')} />
      {loops.length > 0 && (
        <p>
          {t('{{count}} loops drawn.', { count: loops.length })}{' '}
          <Button size="small" onClick={clear}>
            {t('Draw again')}
          </Button>
        </p>
      )}
      {found && <Numbers step={found} />}
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
