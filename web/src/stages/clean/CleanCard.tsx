import { Button, Segmented, Select, Switch } from 'antd'
import { useEffect, useMemo, useState } from 'react'
import type { TrayItem } from '@oak-gauge/contract'
import { useOpenJob } from '../../job/useJob.ts'
import { WorkCard } from '../../job/WorkCard.tsx'
import { useAppDispatch } from '../../store.ts'
import { view } from '../../view/viewSlice.ts'
import type { CardProps } from '../cards.ts'
import { LassoTool } from './LassoTool.tsx'
import { StatisticTool } from './StatisticTool.tsx'
import { TrimTool } from './TrimTool.tsx'
import { t } from '../../words/t.ts'

type Tool = 'table' | 'strays' | 'islands' | 'lasso'
const QUESTION: Record<Tool, string> = {
  table: t('What belongs to the table?'),
  strays: t('Which points stand alone?'),
  islands: t('What hangs together with nothing?'),
  lasso: t('What else is not the part?'),
}

export interface ToolProps {
  passes: TrayItem[]
  next(): void
}

/** One tool at a time, on the passes of one setup or of all. What would go is marked before it goes. */
export function CleanCard({ go }: CardProps) {
  const { state, passes } = useOpenJob()
  const [tool, setTool] = useState<Tool>('table')
  const setups = useMemo(() => state.setups.filter((s) => passes.some((p) => p.setup === s.id)), [state.setups, passes])
  const [setup, setSetup] = useState<string>('first')
  // the table lies differently in each setup, so they are trimmed one by one
  const chosen = setup === 'first' ? (tool === 'table' && setups.length > 1 ? setups[0].id : 'all') : setup
  const mine = useMemo(() => (chosen === 'all' ? passes : passes.filter((p) => p.setup === chosen)), [passes, chosen])
  const dispatch = useAppDispatch()
  useEffect(() => {
    dispatch(view.hide({ slots: passes.filter((p) => !mine.includes(p)).map((p) => p.slot), hidden: true }))
    dispatch(view.hide({ slots: mine.map((p) => p.slot), hidden: false }))
    return () => void dispatch(view.cleared())
    // eslint-disable-next-line react-hooks/exhaustive-deps -- only when another tool or setup is chosen, not when points change
  }, [tool, chosen, dispatch])
  useEffect(
    () => () => {
      dispatch(view.unhide(passes.map((p) => p.slot)))
    },
    // eslint-disable-next-line react-hooks/exhaustive-deps -- on leaving
    [],
  )
  if (!passes.length)
    return (
      <WorkCard
        question={t('What belongs to the table?')}
        foot={
          <Button type="primary" onClick={() => go('Capture')}>
            {t('Go to Capture')}
          </Button>
        }
      >
        <p>{t('Here the table, strays and anything that is not the part are taken away. There are no recorded passes yet: bring some in first.')}</p>
      </WorkCard>
    )
  const next = () => go('Align')
  const Shown = tool === 'table' ? TrimTool : tool === 'lasso' ? LassoTool : StatisticTool
  return (
    <Shown
      key={`${tool} ${chosen}`}
      passes={mine}
      next={next}
      operation={tool === 'islands' ? 'islands' : 'strays'}
      question={QUESTION[tool]}
      head={
        <>
          <Segmented<Tool>
            block
            value={tool}
            onChange={(t) => {
              setTool(t)
              setSetup('first')
            }}
            options={[
              { value: 'table', label: t('Table') },
              { value: 'strays', label: t('Strays') },
              { value: 'islands', label: t('Islands') },
              { value: 'lasso', label: t('By hand') },
            ]}
          />
          {setups.length > 1 && (
            <div className="field">
              <label htmlFor="k-setup">{t('Passes of')}</label>
              <Select
                id="k-setup"
                className="control"
                value={chosen}
                onChange={setSetup}
                options={[...setups.map((s) => ({ value: s.id, label: s.name })), { value: 'all', label: t('all setups') }]}
              />
            </div>
          )}
        </>
      }
    />
  )
}

export function Toggle({ label, value, onChange, reason }: { label: string; value: boolean; onChange(v: boolean): void; reason?: string }) {
  return (
    <div className="field">
      <label>{label}</label>
      <Switch size="small" checked={value} onChange={onChange} aria-label={label} />
      {reason && <span className="reason">{reason}</span>}
    </div>
  )
}
