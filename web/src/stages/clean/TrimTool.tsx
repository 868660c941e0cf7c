import { Button, Segmented } from 'antd'
import { useCallback, useEffect, useMemo, useState, type ReactNode } from 'react'
import { OakError } from '@oak-gauge/core/base/errors.ts'
import { useNudge } from '../../job/useKeys.ts'
import { useStep } from '../../job/useStep.ts'
import { Numbers, StepProblem, WorkCard } from '../../job/WorkCard.tsx'
import { Amount } from '../../looks/Amount.tsx'
import { count, fixed } from '../../looks/quantity.ts'
import { useAppDispatch, useAppSelector } from '../../store.ts'
import { displayOf, type Arrays } from '../../view/display.ts'
import { view } from '../../view/viewSlice.ts'
import { Toggle, type ToolProps } from './CleanCard.tsx'
import { previewTrim } from './trim.ts'
import { t } from '../../words/t.ts'
import { Words } from '../../words/Words.tsx'

const NUDGE = 0.1
const RAISE = 0.3

/** A plane through three picked places, or fitted around one; what lies below it goes. */
export function TrimTool({ passes, next, question, head }: ToolProps & { question: string; head: ReactNode }) {
  const dispatch = useAppDispatch()
  const places = useAppSelector((s) => s.view.places)
  const [way, setWay] = useState<'patch' | 'three'>('three')
  const [raise, setRaise] = useState(RAISE)
  const [flip, setFlip] = useState(false)
  const [radius, setRadius] = useState(15)
  const [arrays, setArrays] = useState<Record<string, Arrays>>({})
  const step = useStep()
  const most = way === 'three' ? 3 : 1

  useEffect(() => {
    dispatch(view.places([]))
    dispatch(view.pick({ kind: 'places', most }))
    return () => {
      dispatch(view.pick({ kind: 'none' }))
      dispatch(view.going({ kind: 'none' }))
    }
  }, [dispatch, most])
  useEffect(() => {
    let live = true
    void Promise.all(passes.map(async (p) => [p.id, await displayOf(p.id)] as const)).then((list) => {
      if (live) setArrays(Object.fromEntries(list))
    })
    return () => {
      live = false
    }
  }, [passes])

  const { preview, wrong } = useMemo(() => {
    try {
      const ready = places.length === most && passes.every((p) => arrays[p.id])
      return {
        preview: ready
          ? previewTrim(
              places,
              radius,
              raise,
              flip,
              passes.map((item) => ({ item, arrays: arrays[item.id] })),
            )
          : null,
        wrong: null,
      }
    } catch (e) {
      if (e instanceof OakError) return { preview: null, wrong: e }
      throw e
    }
  }, [places, most, radius, raise, flip, passes, arrays])
  useEffect(() => {
    dispatch(view.going(preview ? { kind: 'plane', ...preview.plane, slots: passes.map((p) => p.slot) } : { kind: 'none' }))
  }, [preview, passes, dispatch])
  useNudge(useCallback((d) => setRaise((r) => Number(fixed(r + d * NUDGE, 6))), []))

  const trim = async () => {
    const params = way === 'three' ? { through: places.map((p) => p.at), raise, flip } : { patch: { at: places[0].at, radius }, raise, flip }
    await step.run({ operation: 'trim-plane', inputs: { passes: passes.map((p) => p.slot) }, params })
    dispatch(view.places([]))
  }
  const left = most - places.length
  return (
    <WorkCard
      question={question}
      foot={
        <>
          <Button onClick={next}>{t('Go on to Align')}</Button>
          <Button type="primary" disabled={!preview || step.running} onClick={() => void trim()}>
            {preview ? t('Take away {{points}}', { points: count(preview.points) }) : t('Take away')}
          </Button>
        </>
      }
    >
      {head}
      <Segmented
        block
        value={way}
        onChange={setWay}
        options={[
          { value: 'three', label: t('Three places') },
          { value: 'patch', label: t('One patch') },
        ]}
      />
      <p>
        {left > 0
          ? t('Click {{way}} on the table.', {
              way: left === 3 ? t('three places') : left === 2 ? t('two more places') : way === 'patch' ? t('a place') : t('one more place'),
            })
          : t('Hatched points would go.')}{' '}
        {places.length > 0 && (
          <Button size="small" onClick={() => dispatch(view.places([]))}>
            {t('Pick again')}
          </Button>
        )}
      </p>
      {wrong && (
        <p className="note">
          {wrong.message} {wrong.remedy}
        </p>
      )}
      {way === 'patch' && <Amount label={t('Patch, radius')} value={radius} usual={15} onChange={setRadius} />}
      <Amount
        label={t('Raised by')}
        value={raise}
        usual={RAISE}
        positive={false}
        step={NUDGE}
        onChange={setRaise}
        reason={
          <>
            <Words of={'above the table, so that its noise goes too; <key>[</key> <key>]</key> by 0.1 mm'} parts={{ key: <span className="key" /> }} />
          </>
        }
      />
      <Toggle label={t('Take away the other side')} value={flip} onChange={setFlip} />
      {preview && (
        <dl className="rows" data-evidence="preview">
          <dt>{t('Would go, about')}</dt>
          <dd data-quantity="would go">{fixed(100 * preview.share, 1)} %</dd>
          <dt>{t('Points left, about')}</dt>
          <dd>{count(preview.left)}</dd>
        </dl>
      )}
      <StepProblem of={step} />
      {step.step?.state === 'done' && <Numbers step={step.step} />}
    </WorkCard>
  )
}
