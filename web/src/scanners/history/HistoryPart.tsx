import { Button } from 'antd'
import { useState } from 'react'
import { problemOf, useCalibrationQuery, usePutIntoUseMutation } from '../../api.ts'
import { Card } from '../../looks/Card.tsx'
import { ProblemBox } from '../../looks/ProblemBox.tsx'
import { formatMoment } from '../../looks/when.ts'
import { ResultView } from '../calibrate/ResultView.tsx'
import type { ScannerPart } from '../ScannerPage.tsx'
import { Trend } from './Trend.tsx'
import { fixed } from '../../looks/quantity.ts'
import { t } from '../../words/t.ts'

/** Every calibration and verification so far, with the limits; and back to an earlier calibration. */
export function HistoryPart(props: ScannerPart) {
  const { scanner: s } = props
  const [open, setOpen] = useState<string | null>(null)
  const { currentData: shown } = useCalibrationQuery(open ?? '', { skip: !open })
  const [use, { error, isLoading }] = usePutIntoUseMutation()
  const problem = problemOf(error)
  if (open && shown) return <ResultView {...props} calibration={shown} onAgain={undefined} />
  const verified = (name: 'distance' | 'size' | 'form') =>
    s.verifications.flatMap((v) => {
      const r = v.rows.find((q) => q.name === name)
      return r ? [{ at: v.at, value: Math.abs(r.value), uncertainty: r.uncertainty, good: v.verdict === 'pass' }] : []
    })
  return (
    <>
      <div className="view chartview">
        {s.calibrations.length === 0 ? (
          <div className="empty">
            <div className="teach">
              <b>{t('Nothing was measured yet.')}</b>
              <span className="soft">{t('Every calibration and verification is kept here for ever, so that a slow drift shows before it does harm.')}</span>
            </div>
          </div>
        ) : (
          <>
            <Trend
              label={t('Reprojection error, rms')}
              unit="px"
              limit={s.spec.limits.reprojection}
              points={s.calibrations.map((c) => ({ at: c.at, value: c.rms, good: c.verdict === 'go' && c.rms <= s.spec.limits.reprojection }))}
            />
            <Trend label={t('Ball bar, largest distance error')} unit="mm" limit={s.spec.limits.distance} points={verified('distance')} />
          </>
        )}
      </div>
      <Card
        question={t('What was measured before?')}
        about={t('An earlier calibration can be put into use again, for instance when the last one was made with the wrong plate.')}
      >
        {problem && <ProblemBox problem={problem} />}
        <ul className="runs" aria-label={t('Calibrations')}>
          {[...s.calibrations].reverse().map((c) => (
            <li key={c.id} className={c.id === s.calibration?.id ? 'here' : ''}>
              <button type="button" className="plain" onClick={() => setOpen(c.id)}>
                <b>{formatMoment(c.at)}</b>
                <span className="soft">{t('{{plate}}, {{poses}} poses{{cold}}', { plate: c.plate, poses: c.poses, cold: c.cold ? t(', cold') : '' })}</span>
              </button>
              <span className="figure">{fixed(c.rms, 3)} px</span>
              {c.id === s.calibration?.id ? (
                <span className="soft">{t('in use')}</span>
              ) : c.verdict === 'go' ? (
                <Button size="small" loading={isLoading} onClick={() => void use({ id: s.id, calibration: c.id })}>
                  {t('Use it')}
                </Button>
              ) : (
                <span className="soft">{t('no-go')}</span>
              )}
            </li>
          ))}
        </ul>
        {s.notes.length > 0 && (
          <details className="fine" open>
            <summary>{t('Notes')}</summary>
            <ul className="notes">
              {s.notes.slice(0, 12).map((n) => (
                <li key={n.at + n.text}>
                  <span className="soft">{formatMoment(n.at)}</span> {n.text}
                </li>
              ))}
            </ul>
          </details>
        )}
      </Card>
    </>
  )
}
