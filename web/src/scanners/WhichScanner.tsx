import { Button } from 'antd'
import { Link } from 'react-router'
import type { ScannerSummary } from '@oak-gauge/contract'
import { usePatchScannerMutation } from '../api.ts'
import { t } from '../words/t.ts'

/** With which scanner, and what is to be known of its health. */
export function WithScanner({ scanner }: { scanner: ScannerSummary }) {
  return (
    <p className="hint">
      {t('With')} <Link to={`/scanners/${scanner.id}`}>{scanner.name}</Link>
      {scanner.health.state === 'go' ? '.' : `: ${scanner.health.reason}`}
    </p>
  )
}

/** Why a scanner is not there, and what to do. */
export function NotConnected({ scanner }: { scanner: ScannerSummary }) {
  const [patch] = usePatchScannerMutation()
  return (
    <div className="note">
      {scanner.on
        ? (scanner.problem?.detail ?? t('{{name}} is being connected.', { name: scanner.name }))
        : t('{{name}} is switched off.', { name: scanner.name })}{' '}
      {!scanner.on && (
        <Button size="small" onClick={() => void patch({ id: scanner.id, on: true })}>
          {t('Switch it on')}
        </Button>
      )}
    </div>
  )
}
