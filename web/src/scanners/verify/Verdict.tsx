import { Button } from 'antd'
import { API, addressOf, type VerificationSummary } from '@oak-gauge/contract'
import { Card } from '../../looks/Card.tsx'
import { formatMoment } from '../../looks/when.ts'
import type { ScannerPart } from '../ScannerPage.tsx'
import { fixed } from '../../looks/quantity.ts'

const WORDS = { form: 'Probing form, 95 %', size: 'Probing size, diameter', distance: 'Sphere distance' } as const

/** What the bar says of the scanner, line by line against its limits. */
export function Verdict({ scanner, result: v, onAgain, go }: ScannerPart & { result: VerificationSummary; onAgain(): void }) {
  const said = { pass: 'Pass', fail: 'No-go', 'not decidable': 'Not decidable' }[v.verdict]
  return (
    <Card
      question={`${scanner.name} against its limits`}
      foot={
        <>
          {v.verdict === 'fail' ? (
            <Button type="primary" onClick={() => go('Calibrate')}>
              Calibrate
            </Button>
          ) : (
            <Button type="primary" href={addressOf(API.certificate, { id: v.id })} target="_blank" rel="noreferrer">
              Certificate to print
            </Button>
          )}
          <Button onClick={onAgain}>Verify again</Button>
        </>
      }
    >
      <p className={`verdict ${v.verdict === 'pass' ? 'go' : v.verdict === 'fail' ? 'no-go' : 'due'}`} data-verdict={v.verdict}>
        <b>{said}</b>
        <span>
          {formatMoment(v.at)}, {v.bar}
          {v.cold ? ', cold' : ''}
        </span>
      </p>
      <table className="numbers">
        <thead>
          <tr>
            <th>worst of {v.positions}</th>
            <th>mm</th>
            <th>U</th>
            <th>limit</th>
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
        Decided by ISO 14253-1: inside the limit by more than the expanded uncertainty U passes, outside by more than U fails; between is not decidable with
        this measurement.
      </p>
      {v.verdict === 'fail' && (
        <a href={addressOf(API.certificate, { id: v.id })} target="_blank" rel="noreferrer">
          Page to print (PDF)
        </a>
      )}
    </Card>
  )
}
