import { Link } from 'react-router'
import { useScannersQuery } from '../api.ts'
import { formatLength } from '../looks/length.ts'
import { useAppDispatch, useAppSelector } from '../store.ts'
import { view } from '../view/viewSlice.ts'
import { useOpenJob } from './useJob.ts'
import { t } from '../words/t.ts'
import { Words } from '../words/Words.tsx'

export function TopBar({ onFind, onKeys }: { onFind(): void; onKeys(): void }) {
  const { state } = useOpenJob()
  const { title, part, purpose, tolerance, scanner } = state.job
  const evening = useAppSelector((s) => s.view.evening)
  const connected = useAppSelector((s) => s.progress.connected)
  const dispatch = useAppDispatch()
  const { data: scanners } = useScannersQuery(undefined, { skip: !scanner })
  const own = scanners?.find((s) => s.id === scanner)
  return (
    <div className="topbar">
      <h1>{title}</h1>
      <span className="soft hide-narrow">{part}</span>
      <span className="space" />
      {!connected && (
        <span className="chip urgent-edge" role="status">
          {t('server does not answer, trying again')}
        </span>
      )}
      <span className="chip hide-narrow">{purpose.replace('-', ' ')}</span>
      <span className="chip">
        {tolerance === null ? (
          t('no tolerance yet')
        ) : (
          <>
            <Words
              of={'Tolerance <figure>{{tolerance}}</figure> mm'}
              values={{ tolerance: formatLength(tolerance) }}
              parts={{ figure: <span className="figure" /> }}
            />
          </>
        )}
      </span>
      {own && (
        <Link className="chip" to={`/jobs/${state.job.id}/Ready`} title={own.health.reason}>
          {own.name}
          {own.health.state === 'go' ? '' : `, ${own.health.state}`}
        </Link>
      )}
      <button type="button" className="chip" onClick={() => dispatch(view.evening(!evening))}>
        {evening ? t('Day') : t('Evening')}
      </button>
      <button type="button" className="chip" onClick={onKeys} aria-label={t('All keys')}>
        {t('Keys')} <span className="key">?</span>
      </button>
      <button type="button" className="chip" onClick={onFind}>
        {t('Find any action')} <span className="key">{t('Ctrl K')}</span>
      </button>
    </div>
  )
}
