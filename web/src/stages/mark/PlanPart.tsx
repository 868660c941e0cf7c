import { Button, Collapse, Segmented, Select } from 'antd'
import { useEffect, useMemo, useState, type ReactNode } from 'react'
import { lastOf, type TrayItem } from '@oak-gauge/contract'
import type { PlainShape } from '@oak-gauge/core/markers/plan/shape.ts'
import type { PlanSettings } from '@oak-gauge/core/operations/plan-markers.ts'
import { useOpenJob } from '../../job/useJob.ts'
import { useStep } from '../../job/useStep.ts'
import { StepProblem, WorkCard } from '../../job/WorkCard.tsx'
import { Amount } from '../../looks/Amount.tsx'
import { useAppDispatch, useAppSelector } from '../../store.ts'
import { view as viewing } from '../../view/viewSlice.ts'
import { FineSettings } from './FineSettings.tsx'
import { KeepClear } from './KeepClear.tsx'
import { mark } from './markSlice.ts'
import { useMarkers } from './markers.ts'
import { BOX, PartFields } from './PartFields.tsx'
import { PlanResult } from './PlanResult.tsx'
import { USUAL, type Settings } from './plansettings.ts'
import { usePlanner } from './usePlanner.ts'
import { useScannerView } from './useScannerView.ts'
import { t } from '../../words/t.ts'

/** Where markers should go, before any is stuck. */
export function PlanPart({ head, onMap }: { head: ReactNode; onMap(): void }) {
  const { state, path, nominals, meshes, passes } = useOpenJob()
  const last = lastOf(path, 'plan-markers')
  const plan = state.tray.findLast((i) => i.role === 'marker-plan')
  const [s, set] = useState<Settings>(() => ({ ...USUAL, ...(last?.params as Partial<Settings> | undefined) }))
  const patch = (p: Partial<Settings>) => set((old) => ({ ...old, ...p }))
  const shapes = useMemo(() => [...nominals, ...meshes, ...passes], [nominals, meshes, passes])
  const [chosen, setChosen] = useState<string | null>(() => last?.inputs['shape']?.[0] ?? null)
  const item: TrayItem | undefined = s.shape ? undefined : (shapes.find((i) => i.slot === chosen) ?? shapes[0])
  const shape: PlainShape | null = s.shape ?? (item ? null : BOX)
  const scanner = useScannerView()
  const step = useStep()
  const dispatch = useAppDispatch()
  const { draft, judged } = useAppSelector((st) => st.mark)
  const stored = useMarkers(plan)
  const [again, setAgain] = useState(false)
  const shown = draft ?? stored
  // the plan in the job is judged on the shape it was made on; a draft on the same
  usePlanner({ settings: { ...s, shape }, item, view: scanner?.view ?? null, markers: shown })
  const settled = plan !== undefined && stored !== null && !again

  const request = (more: Partial<PlanSettings>) => {
    const { shape: _, ...rest } = s
    return {
      operation: 'plan-markers',
      inputs: { ...(item ? { shape: [item.slot] } : {}), ...(plan ? { plan: [plan.slot] } : {}) },
      params: { ...rest, ...(shape ? { shape } : {}), ...(scanner ? { scanner: scanner.view } : {}), ...more },
    }
  }
  const propose = async () => {
    if (await step.run(request({}))) setAgain(false)
  }
  const keep = async () => {
    if (!draft) return
    if (await step.run(request({ propose: false, fixed: draft }))) dispatch(mark.draft(null))
  }
  useEffect(() => () => void dispatch(viewing.pick({ kind: 'none' })), [dispatch])

  if (settled || draft)
    return (
      <PlanResult
        head={head}
        plan={plan}
        markers={shown ?? []}
        judged={judged}
        settings={s}
        step={step}
        last={last}
        onChange={() => dispatch(mark.draft(stored))}
        onKeep={() => void keep()}
        onAgain={() => setAgain(true)}
        onMap={onMap}
      />
    )
  return (
    <WorkCard
      question={t('Where should markers go?')}
      about={t('Proposed are the fewest markers such that from every side enough of them are seen, away from edges, and no two groups alike.')}
      foot={
        <>
          <Button type="primary" disabled={step.running || !scanner} onClick={() => void propose()}>
            {t('Propose places')}
          </Button>
          <Button onClick={plan ? () => setAgain(false) : onMap}>{plan ? t('Back to the plan') : t('They are stuck already')}</Button>
        </>
      }
    >
      {head}
      <PartFields settings={s} shape={shape} shapes={shapes} item={item} patch={patch} onChoose={setChosen} />
      <Segmented<Settings['where']>
        block
        value={s.where}
        onChange={(where) => patch({ where })}
        options={[
          { value: 'part', label: t('On the part') },
          { value: 'around', label: t('Around it') },
          { value: 'both', label: t('Both') },
        ]}
      />
      <p className="hint">
        {s.where === 'part'
          ? t('It may be turned and held in the hand: markers travel with it.')
          : t('The part may not be moved against the table within a setup.')}
      </p>
      <div className="field">
        <label htmlFor="m-sizes">{t('Sizes')}</label>
        <Select
          id="m-sizes"
          className="control"
          value={s.sizes}
          onChange={(sizes) => patch({ sizes })}
          options={[
            { value: 'mixed', label: t('3 and 6 mm mixed') },
            { value: 'small', label: t('3 mm only') },
            { value: 'large', label: t('6 mm only') },
          ]}
        />
        <span className="reason">{t('mixed sizes make groups easier to tell apart')}</span>
      </div>
      <Amount
        label={t('In view')}
        unit=""
        value={s.wanted}
        usual={USUAL.wanted}
        onChange={(v) => patch({ wanted: Math.max(3, Math.round(v)) })}
        reason={t('markers from every side; 4 keep tracking alive, 6 are comfortable')}
      />
      {scanner && (
        <p className="hint">{t('Planned for {{name}}, {{near}} to {{far}} mm.', { name: scanner.name, near: scanner.view.near, far: scanner.view.far })}</p>
      )}
      <KeepClear settings={s} nominal={item?.role === 'nominal' ? item : undefined} onChange={patch} />
      <Collapse ghost size="small" items={[{ key: 'fine', label: t('Fine settings'), children: <FineSettings s={s} patch={patch} /> }]} />
      <StepProblem of={step} />
    </WorkCard>
  )
}
