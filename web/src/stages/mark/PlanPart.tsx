import { Button, Checkbox, Collapse, Segmented, Select } from 'antd'
import { useEffect, useMemo, useState, type ReactNode } from 'react'
import { lastOf, type TrayItem } from '@oak-gauge/contract'
import type { PlainShape, Up } from '@oak-gauge/core/markers/plan/shape.ts'
import type { PlanSettings } from '@oak-gauge/core/operations/plan-markers.ts'
import { useOpenJob } from '../../job/useJob.ts'
import { useStep } from '../../job/useStep.ts'
import { StepProblem, WorkCard } from '../../job/WorkCard.tsx'
import { Amount } from '../../looks/Amount.tsx'
import { useAppDispatch, useAppSelector } from '../../store.ts'
import { view as viewing } from '../../view/viewSlice.ts'
import { KeepClear } from './KeepClear.tsx'
import { mark } from './markSlice.ts'
import { useMarkers } from './markers.ts'
import { PlanResult } from './PlanResult.tsx'
import { usePlanner } from './usePlanner.ts'
import { useScannerView } from './useScannerView.ts'

export type Settings = Pick<
  PlanSettings,
  'up' | 'where' | 'sizes' | 'least' | 'wanted' | 'spacing' | 'clearEdge' | 'blocks' | 'towers' | 'from' | 'keepFaces' | 'keepClear' | 'stock'
> & { shape: PlainShape | null }

export const USUAL: Settings = {
  shape: null,
  up: '+z',
  where: 'both',
  sizes: 'mixed',
  least: 4,
  wanted: 6,
  spacing: 50,
  clearEdge: 25,
  blocks: true,
  towers: true,
  from: 'auto',
  keepFaces: [],
  keepClear: [],
  stock: {},
}

const BOX: PlainShape = { kind: 'box', x: 200, y: 120, z: 60 }
const PLATE: PlainShape = { kind: 'plate', x: 250, y: 180, z: 5 }
const CYLINDER: PlainShape = { kind: 'cylinder', diameter: 120, height: 100 }
const UP_WORDS: Record<Up, string> = { '+z': 'z up', '-z': 'z down', '+x': 'x up', '-x': 'x down', '+y': 'y up', '-y': 'y down' }

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
      question="Where should markers go?"
      about="Proposed are the fewest markers such that from every side enough of them are seen, away from edges, and no two groups alike."
      foot={
        <>
          <Button type="primary" disabled={step.running || !scanner} onClick={() => void propose()}>
            Propose places
          </Button>
          <Button onClick={plan ? () => setAgain(false) : onMap}>{plan ? 'Back to the plan' : 'They are stuck already'}</Button>
        </>
      }
    >
      {head}
      <div className="field">
        <label htmlFor="m-shape">Part</label>
        <Select
          id="m-shape"
          className="control"
          value={shape ? shape.kind : (item?.slot ?? null)}
          onChange={(v) => {
            patch({ shape: v === 'box' ? BOX : v === 'plate' ? PLATE : v === 'cylinder' ? CYLINDER : null })
            setChosen(v)
          }}
          options={[
            ...shapes.map((i) => ({ value: i.slot, label: i.name })),
            { value: 'box', label: 'a box of my size' },
            { value: 'plate', label: 'a plate of my size' },
            { value: 'cylinder', label: 'a cylinder of my size' },
          ]}
        />
      </div>
      {shape && <Dimensions shape={shape} onChange={(v) => patch({ shape: v })} />}
      {!shape && (
        <div className="field">
          <label htmlFor="m-up">It stands with</label>
          <Select
            id="m-up"
            className="control"
            value={s.up}
            onChange={(up) => patch({ up })}
            options={Object.entries(UP_WORDS).map(([value, label]) => ({ value, label }))}
          />
        </div>
      )}
      <Segmented<Settings['where']>
        block
        value={s.where}
        onChange={(where) => patch({ where })}
        options={[
          { value: 'part', label: 'On the part' },
          { value: 'around', label: 'Around it' },
          { value: 'both', label: 'Both' },
        ]}
      />
      <p className="hint">
        {s.where === 'part' ? 'It may be turned and held in the hand: markers travel with it.' : 'The part may not be moved against the table within a setup.'}
      </p>
      <div className="field">
        <label htmlFor="m-sizes">Sizes</label>
        <Select
          id="m-sizes"
          className="control"
          value={s.sizes}
          onChange={(sizes) => patch({ sizes })}
          options={[
            { value: 'mixed', label: '3 and 6 mm mixed' },
            { value: 'small', label: '3 mm only' },
            { value: 'large', label: '6 mm only' },
          ]}
        />
        <span className="reason">mixed sizes make groups easier to tell apart</span>
      </div>
      <Amount
        label="In view"
        unit=""
        value={s.wanted}
        usual={USUAL.wanted}
        onChange={(v) => patch({ wanted: Math.max(3, Math.round(v)) })}
        reason="markers from every side; 4 keep tracking alive, 6 are comfortable"
      />
      {scanner && (
        <p className="hint">
          Planned for {scanner.name}, {scanner.view.near} to {scanner.view.far} mm.
        </p>
      )}
      <KeepClear settings={s} nominal={item?.role === 'nominal' ? item : undefined} onChange={patch} />
      <Collapse ghost size="small" items={[{ key: 'fine', label: 'Fine settings', children: <Fine s={s} patch={patch} /> }]} />
      <StepProblem of={step} />
    </WorkCard>
  )
}

function Dimensions({ shape, onChange }: { shape: PlainShape; onChange(s: PlainShape): void }) {
  if (shape.kind === 'cylinder')
    return (
      <>
        <Amount label="Diameter" value={shape.diameter} onChange={(diameter) => onChange({ ...shape, diameter })} />
        <Amount label="Height" value={shape.height} onChange={(height) => onChange({ ...shape, height })} />
      </>
    )
  return (
    <>
      <Amount label="Length" value={shape.x} onChange={(x) => onChange({ ...shape, x })} />
      <Amount label="Width" value={shape.y} onChange={(y) => onChange({ ...shape, y })} />
      <Amount label={shape.kind === 'plate' ? 'Thickness' : 'Height'} value={shape.z} onChange={(z) => onChange({ ...shape, z })} />
    </>
  )
}

function Fine({ s, patch }: { s: Settings; patch(p: Partial<Settings>): void }) {
  const left = (size: 'small' | 'large', label: string) => (
    <Amount
      label={label}
      unit=""
      positive={false}
      value={s.stock[size] ?? -1}
      usual={-1}
      onChange={(v) => {
        const { [size]: _, ...rest } = s.stock
        patch({ stock: v < 0 ? rest : { ...rest, [size]: Math.round(v) } })
      }}
      reason="left in the box; −1: not counted"
    />
  )
  return (
    <div className="stack">
      <Amount
        label="Spacing"
        value={s.spacing}
        usual={USUAL.spacing}
        onChange={(spacing) => patch({ spacing: Math.min(500, Math.max(10, spacing)) })}
        reason="between neighbours: 50 to 75 mm, three fingers"
      />
      <Amount
        label="From edges"
        value={s.clearEdge}
        usual={USUAL.clearEdge}
        onChange={(v) => patch({ clearEdge: Math.min(25, v) })}
        reason="nearer to an edge a marker leaves a bump or a gap"
      />
      <Amount
        label="At least"
        unit=""
        value={s.least}
        usual={USUAL.least}
        onChange={(v) => patch({ least: Math.max(3, Math.round(v)) })}
        reason="fewer in view and tracking ends"
      />
      <div className="field">
        <label htmlFor="m-from">Seen from</label>
        <Select
          id="m-from"
          className="control narrow"
          value={s.from}
          onChange={(from) => patch({ from })}
          options={[
            { value: 'auto', label: 'as markers allow' },
            { value: 'above', label: 'above the table' },
            { value: 'all', label: 'all round' },
          ]}
        />
      </div>
      <Checkbox checked={s.blocks} onChange={(e) => patch({ blocks: e.target.checked })}>
        Angled blocks of 30° and 45° are at hand
      </Checkbox>
      <Checkbox checked={s.towers} onChange={(e) => patch({ towers: e.target.checked })}>
        Towers are at hand
      </Checkbox>
      {left('small', '3 mm')}
      {left('large', '6 mm')}
    </div>
  )
}
