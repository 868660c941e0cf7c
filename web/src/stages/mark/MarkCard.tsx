import { Segmented } from 'antd'
import { useEffect, useState } from 'react'
import { lastOf } from '@oak-gauge/contract'
import { useOpenJob } from '../../job/useJob.ts'
import { useAppDispatch } from '../../store.ts'
import type { CardProps } from '../cards.ts'
import { CheckPart } from './CheckPart.tsx'
import { MapPart } from './MapPart.tsx'
import { mark } from './markSlice.ts'
import { PlanPart } from './PlanPart.tsx'
import { USUAL, type Settings } from './plansettings.ts'
import { usePlanner } from './usePlanner.ts'
import { useScannerView } from './useScannerView.ts'
import { t } from '../../words/t.ts'

type Part = 'plan' | 'map' | 'check'

/** Markers: planned before they are stuck, mapped before the surface is recorded, and checked against the plan. */
export function MarkCard({ go }: CardProps) {
  const { state, path } = useOpenJob()
  const plan = state.tray.findLast((i) => i.role === 'marker-plan')
  const maps = state.tray.filter((i) => i.role === 'marker-map')
  // as it was on coming here: a result is looked at before the card goes on
  const [first] = useState<Part>(() => (plan || maps.length ? 'map' : 'plan'))
  const [chosen, setPart] = useState<Part | null>(null)
  const dispatch = useAppDispatch()
  useEffect(() => () => void dispatch(mark.cleared()), [dispatch])
  const part = chosen ?? first
  const last = lastOf(path, 'plan-markers')
  const scanner = useScannerView()
  // the part of the plan, for what is hidden behind it; while planning the plan's own card sees to it
  const settings = { ...USUAL, ...(last?.params as Partial<Settings> | undefined) }
  usePlanner({
    settings,
    item: state.tray.find((i) => i.slot === last?.inputs['shape']?.[0]),
    view: part === 'plan' ? null : (scanner?.view ?? null),
    markers: null,
  })
  const head = (
    <Segmented<Part>
      block
      value={part}
      onChange={setPart}
      options={[
        { value: 'plan', label: t('Plan') },
        { value: 'map', label: t('Map') },
        { value: 'check', label: t('Check'), disabled: !plan || !maps.length },
      ]}
    />
  )
  if (part === 'plan') return <PlanPart head={head} onMap={() => setPart('map')} />
  if (part === 'check') return <CheckPart head={head} onPlan={() => setPart('plan')} go={go} />
  return <MapPart head={head} go={go} onCheck={plan ? () => setPart('check') : null} />
}
