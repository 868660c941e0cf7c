import { Button } from 'antd'
import { API, addressOf, type VerificationSummary } from '@oak-gauge/contract'
import { Card } from '../../looks/Card.tsx'
import { formatMoment } from '../../looks/when.ts'
import type { ScannerPart } from '../ScannerPage.tsx'
import { fixed } from '../../looks/quantity.ts'
import { t } from '../../words/t.ts'

const WORDS = { form: t('Probing form, 95 %'), size: t('Probing size, diameter'), distance: t('Sphere distance') } as const

/** What the bar says of the scanner, line by line against its limits. */
export function Verdict({ scanner, result: v, onAgain, go }: ScannerPart & { result: VerificationSummary; onAgain(): void }) {
  const said = { pass: t('Pass'), fail: t('No-go'), 'not decidable': t('Not decidable') }[v.verdict]
  return (
    <Card
      question={t('{{name}} against its limits', { name: scanner.name })}
      foot={
        <>
          {v.verdict === 'fail' ? (
            <Button type="primary" onClick={() => go('Calibrate')}>
              {t('Calibrate')}
            </Button>
          ) : (
            <Button type="primary" href={addressOf(API.certificate, { id: v.id })} target="_blank" rel="noreferrer">
              {t('Certificate to print')}
            </Button>
          )}
          <Button onClick={onAgain}>{t('Verify again')}</Button>
        </>
      }
    >
      <p className={`verdict ${v.verdict === 'pass' ? 'go' : v.verdict === 'fail' ? 'no-go' : 'due'}`} data-verdict={v.verdict}>
        <b>{said}</b>
        <span>
          {formatMoment(v.at)}, {v.bar}
          {v.cold ? t(', cold') : ''}
        </span>
      </p>
      <table className="numbers">
        <thead>
          <tr>
            <th>{t('worst of {{positions}}', { positions: v.positions })}</th>
            <th>mm</th>
            <th>U</th>
            <th>{t('limit')}</th>
            <th />
          </tr>
        </thead>
        <tbody>
          {v.rows.map((r) => (
            <tr key={r.name}>
              <th>{WORDS[r.name]}</th>
              <td data-quantity={r.name}>{fixed(r.value, 3)}</td>
              <td>{fixed(r.uncertainty, 3)}</td>
              <td>{fixed(r.limit, 3)}</td>
              <td>{r.verdict}</td>
            </tr>
          ))}
        </tbody>
      </table>
      <p className="hint">
        {t(
          'Decided by ISO 14253-1: inside the limit by more than the expanded uncertainty U passes, outside by more than U fails; between is not decidable with this measurement.',
        )}
      </p>
      {v.verdict === 'fail' && (
        <a href={addressOf(API.certificate, { id: v.id })} target="_blank" rel="noreferrer">
          {t('Page to print (PDF)')}
        </a>
      )}
    </Card>
  )
}
