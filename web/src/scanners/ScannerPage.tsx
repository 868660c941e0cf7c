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
import { HEALTH_MARK, shortMinutes, worstDistance } from './health.tsx'
import { HistoryPart } from './history/HistoryPart.tsx'
import { StatePart } from './state/StatePart.tsx'
import { VerifyPart } from './verify/VerifyPart.tsx'
import { fixed } from '../looks/quantity.ts'
import { t } from '../words/t.ts'

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
    document.title = scanner ? t('{{name}} · Oak Gauge', { name: scanner.name }) : 'Oak Gauge'
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
        <Link to="/">{t('Back to the bench')}</Link>
      </div>
    )
  if (!scanner) return <p className="soft page-message">{t('Loading')}</p>
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
      <RuleFrame label={t('Parts')} marks={PARTS.map((name) => ({ name, state: states[name] }))} at={at} go={go} />
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
        {t('{{model}}, serial', { model: s.model })} <span className="figure">{s.serial}</span>
      </span>
      <span className="space" />
      {!connected && (
        <span className="chip urgent-edge" role="status">
          {t('server does not answer, trying again')}
        </span>
      )}
      {s.link === 'lost' && (
        <span className="chip urgent-edge" role="status">
          {s.problem?.detail ?? t('The connection is lost.')}
        </span>
      )}
      {s.standIn && (
        <span className="chip" title={t('This scanner is simulated: its images and points are computed from hidden optics.')}>
          {t('stand-in{{clock}}', { clock: s.standIn.clock > 1 ? t(', clock {{clock}}x', { clock: s.standIn.clock }) : '' })}
        </span>
      )}
      <button type="button" className="chip" onClick={() => dispatch(view.evening(!evening))}>
        {evening ? t('Day') : t('Evening')}
      </button>
      <Link className="chip" to="/">
        {t('To the bench')}
      </Link>
    </div>
  )
}

function Strip({ scanner: s }: { scanner: ScannerDetail }) {
  const worst = worstDistance(s)
  const cells: [string, string, string][] = [
    [t('Temperature'), s.state ? fixed(s.state.celsius, 1) : '–', '°C'],
    [t('Room'), s.state ? fixed(s.state.room, 1) : '–', '°C'],
    ...(s.state && !s.state.warm ? [[t('Warm in'), s.warmIn === null ? '–' : shortMinutes(s.warmIn), ''] as [string, string, string]] : []),
    [t('Reprojection, rms'), s.calibration ? fixed(s.calibration.rms, 3) : '–', 'px'],
    [t('Ball bar, largest'), worst ? `${fixed(worst.value, 3)}` : '–', 'mm'],
    [t('Good until'), s.health.goodUntil ? formatDay(s.health.goodUntil) : '–', ''],
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
      <div className="end soft">{s.calibration ? t('calibrated {{at}}', { at: formatMoment(s.calibration.at) }) : t('never calibrated here')}</div>
    </div>
  )
}
