import { Button, Switch } from 'antd'
import { problemOf, useDropScannerMutation, usePatchScannerMutation } from '../../api.ts'
import { Card } from '../../looks/Card.tsx'
import { ProblemBox } from '../../looks/ProblemBox.tsx'
import { formatDay, formatMoment } from '../../looks/when.ts'
import { minutes, worstDistance } from '../health.tsx'
import type { ScannerPart } from '../ScannerPage.tsx'
import { WarmUpChart } from './WarmUpChart.tsx'
import { fixed } from '../../looks/quantity.ts'

const WORD = { go: 'Go', due: 'Calibrate first', 'no-go': 'No-go' } as const

/** How the scanner stands now: may it be trusted, is it warm. */
export function StatePart({ scanner: s, go }: ScannerPart) {
  const [patch, patching] = usePatchScannerMutation()
  const [drop, dropping] = useDropScannerMutation()
  const problem = problemOf(patching.error ?? dropping.error)
  const worst = worstDistance(s)
  const { spec } = s
  const left = s.warming.final !== null && s.state ? Math.max(0, s.warming.final - s.state.celsius) : null
  const next = s.health.state === 'go' && !s.verification ? 'Verify' : 'Calibrate'
  return (
    <>
      <div className="view chartview">
        {s.warming.celsius.length > 0 ? (
          <figure>
            <figcaption>
              <b>{s.state?.warm ? 'Warm' : 'Warming up'}</b>
              <span className="soft">
                {s.state?.warm
                  ? 'its temperature has settled'
                  : left === null
                    ? `it takes some ${spec.warmUp.minutes} minutes; the curve is being fitted`
                    : `${fixed(left, 1)} K still to go, worth ${fixed(left * spec.warmUp.driftPerKelvin, 3)} mm at ${spec.range.ideal} mm`}
              </span>
            </figcaption>
            <div className="plot">
              <WarmUpChart scanner={s} />
            </div>
          </figure>
        ) : (
          <div className="empty">
            <div className="waiting">
              <b>{s.on ? `Connecting to ${s.name}` : `${s.name} is switched off`}</b>
              <span className="soft">A scanner drifts until it is warm: switch it on in good time. What it measures before is not to be trusted.</span>
            </div>
          </div>
        )}
      </div>
      <Card
        question={`May ${s.name} be trusted now?`}
        foot={
          s.on ? (
            <Button type="primary" onClick={() => go(next)}>
              {next === 'Verify' ? 'Verify it with a ball bar' : 'Calibrate'}
            </Button>
          ) : (
            <Button type="primary" loading={patching.isLoading} onClick={() => void patch({ id: s.id, on: true })}>
              Switch it on
            </Button>
          )
        }
      >
        <p className={`verdict ${s.health.state}`} data-health={s.health.state}>
          <b>
            {WORD[s.health.state]}
            {s.health.state === 'go' && s.state && !s.state.warm && ', once it is warm'}
          </b>
          <span>{s.health.reason}</span>
        </p>
        <dl className="rows">
          <dt>Good until</dt>
          <dd>{s.health.goodUntil ? formatDay(s.health.goodUntil) : '–'}</dd>
          <dt>Calibrated</dt>
          <dd>{s.calibration ? formatMoment(s.calibration.at) : 'never'}</dd>
          <dt>Ball bar, largest error</dt>
          <dd>{worst ? `${fixed(worst.value, 3)} ± ${fixed(worst.uncertainty, 3)} mm` : 'not verified'}</dd>
          <dt>Its limit</dt>
          <dd>{fixed(spec.limits.distance, 3)} mm</dd>
          <dt>Working range</dt>
          <dd>
            {spec.range.near} to {spec.range.far} mm
          </dd>
        </dl>
        <p className="hint">
          Weekly in use, after {spec.limits.idleDays} days unused, after a knock, and when the room is {spec.limits.kelvin} K warmer or colder.
          {s.state && !s.state.warm && s.warmIn !== null ? ` Warm in ${minutes(s.warmIn)} of its own clock.` : ''}
        </p>
        {s.link === 'lost' && s.problem && <ProblemBox problem={s.problem} />}
        {problem && <ProblemBox problem={problem} />}
        <div className="field">
          <label htmlFor="scanner-on">Switched on</label>
          <Switch id="scanner-on" checked={s.on} loading={patching.isLoading} onChange={(on) => void patch({ id: s.id, on })} />
        </div>
        {s.standIn && (
          <details className="fine">
            <summary>Stand-in</summary>
            <p className="hint">
              Its true optics are hidden, and move with warmth and time. A fall moves them at once: the points it computes are wrong until it is calibrated
              anew.
            </p>
            <Button size="small" danger disabled={s.link !== 'connected'} loading={dropping.isLoading} onClick={() => void drop(s.id)}>
              Drop it
            </Button>
          </details>
        )}
      </Card>
    </>
  )
}
