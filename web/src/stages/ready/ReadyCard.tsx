import { Button } from 'antd'
import { Link } from 'react-router'
import type { ScannerSummary } from '@oak-gauge/contract'
import { problemOf, usePatchJobMutation, useScannersQuery } from '../../api.ts'
import { useOpenJob } from '../../job/useJob.ts'
import { WorkCard } from '../../job/WorkCard.tsx'
import { ProblemBox } from '../../looks/ProblemBox.tsx'
import { StageMark } from '../../looks/StageMark.tsx'
import { HEALTH_MARK, inOneLine } from '../../scanners/health.tsx'
import type { CardProps } from '../cards.ts'
import { fitness, FitWords } from './fitness.tsx'
import { fixed } from '../../looks/quantity.ts'
import { t } from '../../words/t.ts'
import { Words } from '../../words/Words.tsx'

/** Which scanner the part is recorded with, whether it may be trusted now, and whether it is fine enough. */
export function ReadyCard({ go }: CardProps) {
  const { state } = useOpenJob()
  const { data: scanners, error: unread } = useScannersQuery()
  const [patch, { error }] = usePatchJobMutation()
  const { scanner: chosen, tolerance } = state.job
  const problem = problemOf(error ?? unread)
  const choose = (id: string | null) => void patch({ id: state.job.id, patch: { scanner: id } })
  const own = scanners?.find((s) => s.id === chosen)
  return (
    <WorkCard
      question={t('Which scanner records this part?')}
      about={t('Its calibration is kept beside each pass that comes in from now on. Passes of another program can come in without one.')}
      foot={
        <Button type="primary" onClick={() => go('Mark')}>
          {own ? t('Go on to Mark') : t('Go on without one')}
        </Button>
      }
    >
      <div role="radiogroup" aria-label={t('Scanner')} className="choose">
        {scanners?.map((s) => (
          <Choice key={s.id} scanner={s} tolerance={tolerance} chosen={s.id === chosen} onChoose={() => choose(s.id === chosen ? null : s.id)} />
        ))}
      </div>
      {own && <FitWords scanner={own} tolerance={tolerance} />}
      {own && own.health.state !== 'go' && (
        <p className="note">
          {t('{{name}}: {{reason}} What is recorded with it now carries that mark.', { name: own.name, reason: own.health.reason })}{' '}
          <Link to={`/scanners/${own.id}/Calibrate`}>{t('Calibrate it')}</Link>
        </p>
      )}
      {problem && <ProblemBox problem={problem} />}
    </WorkCard>
  )
}

function Choice({ scanner: s, tolerance, chosen, onChoose }: { scanner: ScannerSummary; tolerance: number | null; chosen: boolean; onChoose(): void }) {
  const fit = fitness(s, tolerance)
  const line = inOneLine(s)
  return (
    <div className={chosen ? 'choice on' : 'choice'}>
      <button type="button" role="radio" aria-checked={chosen} className="plain" onClick={onChoose}>
        <svg width="14" height="14" aria-hidden="true">
          <StageMark state={HEALTH_MARK[s.health.state]} size={14} />
        </svg>
        <b>{s.name}</b>
        <span className="soft">{s.model}</span>
        <span className={line.urgent ? 'urgent' : 'soft'}>{line.text}</span>
        <span className="hint">
          {fit ? (
            <>
              <Words of={'error <figure>{{error}}</figure> mm,'} values={{ error: fixed(fit.error, 3) }} parts={{ figure: <span className="figure" /> }} />{' '}
              {fit.level === 'too-coarse' ? <b>{t('too coarse')}</b> : fit.level}
            </>
          ) : (
            t('not verified')
          )}
        </span>
      </button>
      <Link to={`/scanners/${s.id}`} aria-label={t('State of {{name}}', { name: s.name })}>
        {t('state')}
      </Link>
    </div>
  )
}
