import { useCallback, useEffect } from 'react'
import { Link, useNavigate, useParams } from 'react-router'
import type { ScannerDetail, StageState } from '@oak-gauge/contract'
import { problemOf, useScannerQuery, useScannerRunQuery } from '../api.ts'
import { ProblemBox } from '../looks/ProblemBox.tsx'
import { RuleFrame } from '../looks/RuleFrame.tsx'
import { formatDay, formatMoment } from '../looks/when.ts'
import { useAppDispatch, useAppSelector } from '../store.ts'
import { view } from '../view/viewSlice.ts'
import { CalibratePart } from './calibrate/CalibratePart.tsx'
import { HEALTH_MARK, minutes, worstDistance } from './health.tsx'
import { HistoryPart } from './history/HistoryPart.tsx'
import { StatePart } from './state/StatePart.tsx'
import { VerifyPart } from './verify/VerifyPart.tsx'
import { fixed } from '../looks/quantity.ts'

const PARTS = ['State', 'Calibrate', 'Verify', 'History'] as const
export type ScannerPartName = (typeof PARTS)[number]
export interface ScannerPart {
  scanner: ScannerDetail
  go(part: ScannerPartName): void
}
const VIEWS = { State: StatePart, Calibrate: CalibratePart, Verify: VerifyPart, History: HistoryPart }

/** One scanner: how it stands, its calibration, its verification, and what was measured before. */
export function ScannerPage() {
  const { id = '', part } = useParams()
  const { data: scanner, error } = useScannerQuery(id)
  const { data: run } = useScannerRunQuery(id)
  const navigate = useNavigate()
  const go = useCallback((p: ScannerPartName) => void navigate(`/scanners/${id}/${p}`), [id, navigate])
  useEffect(() => {
    document.title = scanner ? `${scanner.name} · Oak Gauge` : 'Oak Gauge'
  }, [scanner])
  // space goes on, as in a job
  useEffect(() => {
    const onKey = (e: KeyboardEvent) => {
      if (e.key !== ' ' || !(e.target instanceof HTMLElement) || e.target.matches('button, input, a, summary, [role="switch"]')) return
      e.preventDefault()
      document.querySelector<HTMLElement>('.card .foot .ant-btn-primary:not(:disabled)')?.click()
    }
    window.addEventListener('keydown', onKey)
    return () => window.removeEventListener('keydown', onKey)
  }, [])
  if (error && !scanner)
    return (
      <div className="page-message">
        <ProblemBox problem={problemOf(error) ?? { code: '', detail: '', where: '', remedy: '' }} />
        <Link to="/">Back to the bench</Link>
      </div>
    )
  if (!scanner) return <p className="soft page-message">Loading</p>
  const at = PARTS.find((p) => p === part) ?? 'State'
  const { verification, calibration } = scanner
  const running = (kind: string) => run?.kind === kind && run.phase !== 'done' && run.phase !== 'failed'
  const states: Record<ScannerPartName, StageState> = {
    State: HEALTH_MARK[scanner.health.state],
    Calibrate: running('calibration') ? 'work' : !calibration ? 'open' : scanner.health.state === 'go' ? 'good' : 'look',
    Verify: running('verification') ? 'work' : !verification ? 'open' : verification.verdict === 'pass' ? 'good' : 'look',
    History: scanner.calibrations.length ? 'good' : 'open',
  }
  const Part = VIEWS[at]
  return (
    <div className="job scanner">
      <RuleFrame label="Parts" marks={PARTS.map((name) => ({ name, state: states[name] }))} at={at} go={go} />
      <Top scanner={scanner} />
      <Part key={`${id} ${at}`} scanner={scanner} go={go} />
      <Strip scanner={scanner} />
    </div>
  )
}

function Top({ scanner: s }: { scanner: ScannerDetail }) {
  const evening = useAppSelector((x) => x.view.evening)
  const connected = useAppSelector((x) => x.progress.connected)
  const dispatch = useAppDispatch()
  return (
    <div className="topbar">
      <h1>{s.name}</h1>
      <span className="soft hide-narrow">
        {s.model}, serial <span className="figure">{s.serial}</span>
      </span>
      <span className="space" />
      {!connected && (
        <span className="chip urgent-edge" role="status">
          server does not answer, trying again
        </span>
      )}
      {s.link === 'lost' && (
        <span className="chip urgent-edge" role="status">
          {s.problem?.detail ?? 'The connection is lost.'}
        </span>
      )}
      {s.standIn && (
        <span className="chip" title="This scanner is simulated: its images and points are computed from hidden optics.">
          stand-in{s.standIn.clock > 1 ? `, clock ${s.standIn.clock}x` : ''}
        </span>
      )}
      <button type="button" className="chip" onClick={() => dispatch(view.evening(!evening))}>
        {evening ? 'Day' : 'Evening'}
      </button>
      <Link className="chip" to="/">
        To the bench
      </Link>
    </div>
  )
}

function Strip({ scanner: s }: { scanner: ScannerDetail }) {
  const worst = worstDistance(s)
  const cells: [string, string, string][] = [
    ['Temperature', s.state ? fixed(s.state.celsius, 1) : '–', '°C'],
    ['Room', s.state ? fixed(s.state.room, 1) : '–', '°C'],
    ...(s.state && !s.state.warm ? [['Warm in', s.warmIn === null ? '–' : minutes(s.warmIn).replace('about ', ''), ''] as [string, string, string]] : []),
    ['Reprojection, rms', s.calibration ? fixed(s.calibration.rms, 3) : '–', 'px'],
    ['Ball bar, largest', worst ? `${fixed(worst.value, 3)}` : '–', 'mm'],
    ['Good until', s.health.goodUntil ? formatDay(s.health.goodUntil) : '–', ''],
  ]
  return (
    <div className="strip">
      {cells.map(([label, value, unit]) => (
        <div className="cell" key={label}>
          <span className="what">{label}</span>
          <span className="value" data-strip={label}>
            {value}
            {value !== '–' && <small>{unit}</small>}
          </span>
        </div>
      ))}
      <div className="end soft">{s.calibration ? `calibrated ${formatMoment(s.calibration.at)}` : 'never calibrated here'}</div>
    </div>
  )
}
