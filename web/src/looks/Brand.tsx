import { Link } from 'react-router'
import { t } from '../words/t.ts'

export function Brand() {
  return (
    <Link to="/" className="brand" aria-label={t('Oak Gauge, to the bench')}>
      <svg viewBox="0 0 32 32" aria-hidden="true">
        <path d="M6 27V5M6 8h9M6 12h5M6 16h9M6 20h5M6 24h9" stroke="currentColor" strokeWidth="2.2" fill="none" />
        <path d="M28 16l-9-5v10z" fill="var(--oak)" />
      </svg>
      <span>
        {'Oak'} <span>{'Gauge'}</span>
      </span>
    </Link>
  )
}
