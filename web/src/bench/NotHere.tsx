import { Link } from 'react-router'
import { t } from '../words/t.ts'

export function NotHere() {
  return (
    <div className="page-message">
      <h1>{t('There is nothing here.')}</h1>
      <p>
        {t('The address leads to no job.')} <Link to="/">{t('Back to the bench')}</Link>
      </p>
    </div>
  )
}
