import { Button, Switch } from 'antd'
import { problemOf, useDropScannerMutation, usePatchScannerMutation } from '../../api.ts'
import { Card } from '../../looks/Card.tsx'
import { ProblemBox } from '../../looks/ProblemBox.tsx'
import { formatDay, formatMoment } from '../../looks/when.ts'
import { minutes, worstDistance } from '../health.tsx'
import type { ScannerPart } from '../ScannerPage.tsx'
import { WarmUpChart } from './WarmUpChart.tsx'
import { fixed } from '../../looks/quantity.ts'
import { t } from '../../words/t.ts'

const WORD = { go: t('Go'), due: t('Calibrate first'), 'no-go': t('No-go') } as const

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
              <b>{s.state?.warm ? t('Warm') : t('Warming up')}</b>
              <span className="soft">
                {s.state?.warm
                  ? t('its temperature has settled')
                  : left === null
                    ? t('it takes some {{warmUp}} minutes; the curve is being fitted', { warmUp: spec.warmUp.minutes })
                    : t('{{left}} K still to go, worth {{driftPerKelvin}} mm at {{ideal}} mm', {
                        left: fixed(left, 1),
                        driftPerKelvin: fixed(left * spec.warmUp.driftPerKelvin, 3),
                        ideal: spec.range.ideal,
                      })}
              </span>
            </figcaption>
            <div className="plot">
              <WarmUpChart scanner={s} />
            </div>
          </figure>
        ) : (
          <div className="empty">
            <div className="waiting">
              <b>{s.on ? t('Connecting to {{name}}', { name: s.name }) : t('{{name}} is switched off', { name: s.name })}</b>
              <span className="soft">{t('A scanner drifts until it is warm: switch it on in good time. What it measures before is not to be trusted.')}</span>
            </div>
          </div>
        )}
      </div>
      <Card
        question={t('May {{name}} be trusted now?', { name: s.name })}
        foot={
          s.on ? (
            <Button type="primary" onClick={() => go(next)}>
              {next === 'Verify' ? t('Verify it with a ball bar') : t('Calibrate')}
            </Button>
          ) : (
            <Button type="primary" loading={patching.isLoading} onClick={() => void patch({ id: s.id, on: true })}>
              {t('Switch it on')}
            </Button>
          )
        }
      >
        <p className={`verdict ${s.health.state}`} data-health={s.health.state}>
          <b>
            {WORD[s.health.state]}
            {s.health.state === 'go' && s.state && !s.state.warm && t(', once it is warm')}
          </b>
          <span>{s.health.reason}</span>
        </p>
        <dl className="rows">
          <dt>{t('Good until')}</dt>
          <dd>{s.health.goodUntil ? formatDay(s.health.goodUntil) : '–'}</dd>
          <dt>{t('Calibrated')}</dt>
          <dd>{s.calibration ? formatMoment(s.calibration.at) : t('never')}</dd>
          <dt>{t('Ball bar, largest error')}</dt>
          <dd>{worst ? `${fixed(worst.value, 3)} ± ${fixed(worst.uncertainty, 3)} mm` : t('not verified')}</dd>
          <dt>{t('Its limit')}</dt>
          <dd>{fixed(spec.limits.distance, 3)} mm</dd>
          <dt>{t('Working range')}</dt>
          <dd>{t('{{near}} to {{far}} mm', { near: spec.range.near, far: spec.range.far })}</dd>
        </dl>
        <p className="hint">
          {t('Weekly in use, after {{idleDays}} days unused, after a knock, and when the room is {{kelvin}} K warmer or colder.{{warmIn}}', {
            idleDays: spec.limits.idleDays,
            kelvin: spec.limits.kelvin,
            warmIn: s.state && !s.state.warm && s.warmIn !== null ? t(' Warm in {{warmIn}} of its own clock.', { warmIn: minutes(s.warmIn) }) : '',
          })}
        </p>
        {s.link === 'lost' && s.problem && <ProblemBox problem={s.problem} />}
        {problem && <ProblemBox problem={problem} />}
        <div className="field">
          <label htmlFor="scanner-on">{t('Switched on')}</label>
          <Switch id="scanner-on" checked={s.on} loading={patching.isLoading} onChange={(on) => void patch({ id: s.id, on })} />
        </div>
        {s.standIn && (
          <details className="fine">
            <summary>{t('Stand-in')}</summary>
            <p className="hint">
              {t(
                'Its true optics are hidden, and move with warmth and time. A fall moves them at once: the points it computes are wrong until it is calibrated anew.',
              )}
            </p>
            <Button size="small" danger disabled={s.link !== 'connected'} loading={dropping.isLoading} onClick={() => void drop(s.id)}>
              {t('Drop it')}
            </Button>
          </details>
        )}
      </Card>
    </>
  )
}
