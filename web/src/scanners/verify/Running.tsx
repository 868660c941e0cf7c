import { Button } from 'antd'
import type { VerificationRun } from '@oak-gauge/contract'
import { problemOf, useActOnRunMutation } from '../../api.ts'
import { Card } from '../../looks/Card.tsx'
import { ProblemBox } from '../../looks/ProblemBox.tsx'
import { Exposure } from '../Exposure.tsx'
import type { ScannerPart } from '../ScannerPage.tsx'
import { t } from '../../words/t.ts'

/** Position after position. */
export function Running({ scanner, run }: ScannerPart & { run: VerificationRun }) {
  const [act, { error }] = useActOnRunMutation()
  const problem = run.problem ?? problemOf(error)
  const n = run.readings.length
  const measuring = run.phase === 'measuring'
  return (
    <Card
      question={
        run.phase === 'waiting'
          ? t('The scanner is away')
          : t('Position {{at}} of {{positions}}: the bar {{name}}', {
              at: Math.min(n + 1, run.positions),
              positions: run.positions,
              name: run.name,
            })
      }
      about={
        scanner.standIn
          ? t('The stand-in puts its bar there by itself.')
          : t('Lay the bar so that both spheres are in the working range, and touch neither it nor the scanner.')
      }
      foot={
        <>
          <Button type="primary" loading={measuring} disabled={run.phase === 'waiting'} onClick={() => void act({ id: scanner.id, what: 'take' })}>
            {measuring ? t('Measuring') : problem ? t('Measure it again') : t('Measure this position')}
          </Button>
          <Button onClick={() => void act({ id: scanner.id, what: 'cancel' })}>{t('Give up')}</Button>
        </>
      }
    >
      <div className="taken">
        {Array.from({ length: run.positions }, (_, i) => (
          <i key={i} className={i < n ? 'over' : i === n ? 'now' : ''} />
        ))}
      </div>
      {scanner.standIn && (
        <Button size="small" disabled={run.phase !== 'ready'} onClick={() => void act({ id: scanner.id, what: 'take-all' })}>
          {t('Measure all that are left')}
        </Button>
      )}
      <Exposure scanner={scanner} />
      {run.phase === 'waiting' && <p className="note">{t('What has been measured is kept.')}</p>}
      {problem && <ProblemBox problem={problem} />}
    </Card>
  )
}
