import { Button, Select } from 'antd'
import { useState, type ReactNode } from 'react'
import { lastOf, type Stage, type TrayItem } from '@oak-gauge/contract'
import { useOpenJob } from '../../job/useJob.ts'
import { useStep } from '../../job/useStep.ts'
import { Numbers, StepProblem, Warnings, WorkCard } from '../../job/WorkCard.tsx'
import { Amount } from '../../looks/Amount.tsx'
import { useMarkers } from './markers.ts'
import { fixed } from '../../looks/quantity.ts'
import { t } from '../../words/t.ts'

const TOGETHER = ['align-shape', 'align-pairs', 'align-fine', 'adjust']

/** What was stuck against what was planned, and where one more would help. */
export function CheckPart({ head, onPlan, go }: { head: ReactNode; onPlan(): void; go(s: Stage): void }) {
  const { state, path } = useOpenJob()
  const plan = state.tray.findLast((i) => i.role === 'marker-plan')
  const maps = state.tray.filter((i) => i.role === 'marker-map')
  const [slot, setSlot] = useState<string | null>(null)
  const map = maps.find((m) => m.slot === slot) ?? maps.at(0)
  const [slack, setSlack] = useState(2)
  const step = useStep()
  const more = useStep()
  const markers = useMarkers(map)
  const planned = useMarkers(plan)
  const joined = path.findLast(
    (s) => s.operation === 'join-markers' && plan !== undefined && s.inputs['anchor']?.[0] === plan.slot && s.inputs['loose']?.[0] === map?.slot,
  )
  const compare = () => {
    if (plan && map)
      void step.run({ operation: 'join-markers', inputs: { anchor: [plan.slot], loose: [map.slot], ...withIt(map) }, params: { slack, search: 30 } })
  }
  // what was recorded in the setup stands in the map's axes; where setups were brought together already, the others as well
  const withIt = (map: TrayItem) => {
    const together = path.some((s) => TOGETHER.includes(s.operation) || (s.operation === 'join-markers' && s.inputs['anchor']?.[0] !== plan?.slot))
    const along = (i: TrayItem) => together || i.setup === map.setup
    const passes = state.tray.filter((i) => i.role === 'pass' && along(i)).map((i) => i.slot)
    const others = maps.filter((m) => m !== map && along(m)).map((m) => m.slot)
    return { ...(passes.length ? { passes } : {}), ...(others.length ? { maps: others } : {}) }
  }
  const propose = async () => {
    const last = lastOf(path, 'plan-markers')
    if (!last || !markers || !plan) return
    const fixed = markers.map((m) => {
      // which way it faces and what it sits on: as planned, where it is one of the plan
      const near = planned?.reduce((a, b) => (far(b.at, m.at) < far(a.at, m.at) ? b : a), planned[0])
      const same = near && far(near.at, m.at) < 12
      return {
        id: m.id,
        at: m.at,
        normal: same ? near.normal : m.normal,
        diameter: m.diameter > 0 && m.diameter < 4.5 ? 3 : 6,
        perch: same ? near.perch : ('part' as const),
      }
    })
    const r = await more.run({
      operation: 'plan-markers',
      inputs: { ...(last.inputs['shape'] ? { shape: last.inputs['shape'] } : {}), plan: [plan.slot] },
      params: { ...last.params, fixed, propose: true },
    })
    if (r) onPlan()
  }
  return (
    <WorkCard
      question={t('Do they sit where they were planned?')}
      about={t('The map is laid on the plan by the distances between markers; a hand misses by a millimetre or two, and that is no harm.')}
      foot={
        <>
          {joined ? (
            <Button type="primary" onClick={() => go('Capture')}>
              {t('Go on to Capture')}
            </Button>
          ) : (
            <Button type="primary" disabled={!plan || !map || step.running} onClick={compare}>
              {t('Compare')}
            </Button>
          )}
          {joined && (
            <Button disabled={more.running || !markers} onClick={() => void propose()}>
              {t('Where to add one')}
            </Button>
          )}
        </>
      }
    >
      {head}
      {maps.length > 1 && (
        <div className="field">
          <label htmlFor="m-check">{t('Map')}</label>
          <Select id="m-check" className="control" value={map?.slot ?? null} onChange={setSlot} options={maps.map((m) => ({ value: m.slot, label: m.name }))} />
        </div>
      )}
      <Amount
        label={t('A hand misses by')}
        value={slack}
        usual={2}
        onChange={(v) => setSlack(Math.min(10, v))}
        reason={t('standard deviation; more makes room for hasty hands')}
      />
      <StepProblem of={step} />
      {joined && !step.running && (
        <>
          <h3>{t('Found')}</h3>
          <Numbers step={joined} limit={6} />
          <Warnings step={joined} />
          {along(joined.inputs) && (
            <p className="hint">
              {t('Laid on the plan along with the map: {{inputs}}. Stepping back takes all of it back.', { inputs: along(joined.inputs) })}
            </p>
          )}
          <div className="list">
            <table className="numbers">
              <thead>
                <tr>
                  <th>{t('marker')}</th>
                  <th>{t('beside its place, mm')}</th>
                </tr>
              </thead>
              <tbody>
                {joined.evidence?.quantities
                  .filter((q) => q.id === 'beside-its-place')
                  .sort((a, b) => byNumber.compare(a.of ?? '', b.of ?? ''))
                  .map((q) => (
                    <tr key={q.of}>
                      <th>{q.of}</th>
                      <td data-beside={q.of}>{fixed(Number(q.value), 1)}</td>
                    </tr>
                  ))}
              </tbody>
            </table>
          </div>
        </>
      )}
      <StepProblem of={more} />
    </WorkCard>
  )
}

/** Markers by their number: 2 before 10. */
const byNumber = new Intl.Collator('en', { numeric: true })
const along = ({ passes = [], maps = [] }: Record<string, string[]>) =>
  [passes.length && t('{{count}} passes', { count: passes.length }), maps.length && t('{{count}} other maps', { count: maps.length })]
    .filter(Boolean)
    .join(t(' and '))
const far = (a: readonly number[], b: readonly number[]) => Math.hypot(a[0] - b[0], a[1] - b[1], a[2] - b[2])
