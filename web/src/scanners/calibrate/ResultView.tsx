import { Button } from 'antd'
import type { CalibrationDetail } from '@oak-gauge/contract'
import type { CameraNumber } from '@oak-gauge/core/calibrate/camera.ts'
import { API, addressOf } from '@oak-gauge/contract'
import { problemOf, usePutIntoUseMutation, useScannerQuery } from '../../api.ts'
import { Card } from '../../looks/Card.tsx'
import { ProblemBox } from '../../looks/ProblemBox.tsx'
import { formatMoment } from '../../looks/when.ts'
import type { ScannerPart } from '../ScannerPage.tsx'
import { fieldScale, VectorField } from './VectorField.tsx'
import { fixed } from '../../looks/quantity.ts'
import { t } from '../../words/t.ts'
import { Words } from '../../words/Words.tsx'

const SHOWN: [CameraNumber, string, string][] = [
  ['fx', t('focal length x'), 'px'],
  ['fy', t('focal length y'), 'px'],
  ['cx', t('principal point x'), 'px'],
  ['cy', t('principal point y'), 'px'],
  ['k1', t('radial k1'), ''],
  ['k2', t('radial k2'), ''],
  ['k3', t('radial k3'), ''],
  ['p1', t('tangential p1'), ''],
  ['p2', t('tangential p2'), ''],
]

/** Digits that the uncertainty leaves meaningful: two of the uncertainty itself. */
function digits(uncertainty: number): number {
  return uncertainty > 0 ? Math.max(0, Math.min(7, 1 - Math.floor(Math.log10(uncertainty)))) : 3
}

/** What a calibration came out as: pictures of the error, the numbers with their uncertainty, the verdict. */
export function ResultView({ calibration: c, scanner, onAgain, go }: { calibration: CalibrationDetail; onAgain?: (() => void) | undefined } & ScannerPart) {
  const [put, { isLoading, error }] = usePutIntoUseMutation()
  const { refetch } = useScannerQuery(scanner.id)
  const problem = problemOf(error)
  // the next page shall not show for a moment what was verified of the calibration before
  const putIntoUse = async () => {
    if ((await put({ id: scanner.id, calibration: c.id })).error) return
    await refetch()
    go('Verify')
  }
  const r = c.result
  const scale = fieldScale([r.field.left, r.field.right])
  const inUse = scanner.calibration?.id === c.id
  const good = c.judgement.verdict === 'go'
  return (
    <>
      <div className="view resultview">
        <div className="pair">
          <VectorField field={r.field.left} coverage={r.coverage.left} name="left" scale={scale} />
          <VectorField field={r.field.right} coverage={r.coverage.right} name="right" scale={scale} />
        </div>
        <p className="hint">
          <Words
            of={
              'Mean of projected less seen dots; an arrow as long as a cell is <figure>{{scale}}</figure> px. Random directions are noise, a pattern is not. Shading: how densely the image was looked at.'
            }
            values={{ scale: scale.toPrecision(1) }}
            parts={{ figure: <span className="figure" /> }}
          />
        </p>
        <table className="numbers">
          <thead>
            <tr>
              <th />
              <th>{t('left')}</th>
              <th>{t('right')}</th>
              <th>{t('change since last, left')}</th>
              <th>{t('right')}</th>
            </tr>
          </thead>
          <tbody>
            {SHOWN.map(([key, label, unit]) => {
              const sides = ['left', 'right'] as const
              const u = sides.map((s) => r.uncertainty[s][key])
              const was = c.previous?.result.stereo
              return (
                <tr key={key}>
                  <th>{label}</th>
                  {sides.map((s, k) => (
                    <td key={s} data-number={`${s} ${key}`}>
                      {fixed(r.stereo[s][key], digits(u[k]))} <small>± {u[k].toPrecision(2)}</small> {unit}
                    </td>
                  ))}
                  {sides.map((s, k) => (
                    <td key={s}>{was ? signed(r.stereo[s][key] - was[s][key], digits(u[k])) : '–'}</td>
                  ))}
                </tr>
              )
            })}
          </tbody>
        </table>
      </div>
      <Card
        question={good ? t('The calibration is good. Put it into use?') : t('This calibration is not fit for use.')}
        foot={
          <>
            {good && !inUse && (
              <Button type="primary" loading={isLoading} onClick={() => void putIntoUse()}>
                {t('Put it into use')}
              </Button>
            )}
            {inUse && (
              <Button type="primary" onClick={() => go('Verify')}>
                {t('Verify it with a ball bar')}
              </Button>
            )}
            {onAgain && <Button onClick={onAgain}>{t('Calibrate again')}</Button>}
          </>
        }
      >
        <p className={`verdict ${c.judgement.verdict}`} data-verdict={c.judgement.verdict}>
          <b>{good ? t('Go') : t('No-go')}</b>
          <span>{inUse ? t('in use now') : t('made {{at}}{{cold}}', { at: formatMoment(c.at), cold: c.cold ? t(', cold') : '' })}</span>
        </p>
        {c.judgement.findings.map((f) => (
          <div key={f.message} className={f.level === 'stop' ? 'problem' : 'note'} role={f.level === 'stop' ? 'alert' : undefined}>
            <b>{f.message}</b> {f.remedy}
          </div>
        ))}
        <dl className="rows" data-evidence="calibration">
          <dt>{t('Reprojection, rms')}</dt>
          <dd data-quantity="rms">{fixed(r.rms, 4)} px</dd>
          <dt>{t('mean')}</dt>
          <dd>{fixed(r.mean, 4)} px</dd>
          <dt>{t('largest')}</dt>
          <dd>{fixed(r.largest, 3)} px</dd>
          <dt>{t('Its limit, rms')}</dt>
          <dd>{fixed(scanner.spec.limits.reprojection, 3)} px</dd>
          <dt>{t('Cameras apart')}</dt>
          <dd data-quantity="baseline">
            {fixed(r.baseline, digits(r.uncertainty.baseline))} ± {r.uncertainty.baseline.toPrecision(2)} mm
          </dd>
          {c.previous && (
            <>
              <dt>{t('change since last')}</dt>
              <dd>{signed(r.baseline - c.previous.result.baseline, digits(r.uncertainty.baseline))} mm</dd>
            </>
          )}
          <dt>{t('Image covered')}</dt>
          <dd>{Math.round(100 * r.covered)} %</dd>
          <dt>{t('Dots seen')}</dt>
          <dd>{r.dots}</dd>
          <dt>{t('Poses')}</dt>
          <dd>{t('{{out}} of {{poses}}', { out: r.poses.filter((p) => !p.out).length, poses: r.poses.length })}</dd>
          <dt>{t('Plate')}</dt>
          <dd>{c.plate}</dd>
        </dl>
        {r.leftOut > 0 && <p className="hint">{t('{{leftOut}} single dots did not fit and were left out.', { leftOut: r.leftOut })}</p>}
        {problem && <ProblemBox problem={problem} />}
        <a href={addressOf(API.calibrationFile, { id: c.id })} download>
          {t('All observations and results as a file')}
        </a>
      </Card>
    </>
  )
}

const signed = (v: number, d: number) => `${v > 0 ? '+' : ''}${fixed(v, d)}`
