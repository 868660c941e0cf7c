import { Button, Dropdown } from 'antd'
import { Link } from 'react-router'
import { STAGES, type JobSummary } from '@oak-gauge/contract'
import { useScannersQuery } from '../api.ts'
import { formatLength } from '../looks/length.ts'
import { t } from '../words/t.ts'

export function JobCard({ job, onDelete }: { job: JobSummary; onDelete(): void }) {
  const { data: scanners } = useScannersQuery()
  const own = scanners?.find((s) => s.id === job.scanner)
  return (
    <div className="jobcard">
      <div className="picture">
        {job.picture ? <img alt="" src={job.picture} /> : <span>{t('no picture yet')}</span>}
        {job.ofNominal && <span className="of">{t('nominal')}</span>}
      </div>
      <div className="words">
        <div className="row">
          <h2>
            <Link to={`/jobs/${job.id}`} className="whole">
              {job.title}
            </Link>
          </h2>
          <span className="figure">{job.tolerance === null ? '' : `${formatLength(job.tolerance)} mm`}</span>
        </div>
        <div className="row soft">
          <span>{job.part || '\u00a0'}</span>
          <span>{job.purpose.replace('-', ' ')}</span>
        </div>
        <MiniRule stage={job.stage} />
        <div className="row">
          <span>{job.headline}</span>
          {job.busy ? (
            <span className="soft">{t('computing')}</span>
          ) : (
            own && (
              <span className={own.health.state === 'go' ? 'soft' : 'urgent'}>{own.health.state === 'go' ? own.name : `${own.name}: ${own.health.state}`}</span>
            )
          )}
        </div>
      </div>
      <Dropdown trigger={['click']} menu={{ items: [{ key: 'delete', label: t('Delete the job'), danger: true, onClick: onDelete }] }}>
        <Button size="small" className="more" aria-label={t('More about {{title}}', { title: job.title })}>
          …
        </Button>
      </Dropdown>
    </div>
  )
}

/** A small rule lying down: a long mark for each stage, the pointer at the one that is due. */
function MiniRule({ stage }: { stage: string }) {
  const at = Math.max(0, STAGES.indexOf(stage as (typeof STAGES)[number]))
  const x = (i: number) => 6 + (i * 288) / (STAGES.length - 1)
  return (
    <svg className="minirule" viewBox="0 0 300 26" preserveAspectRatio="none" role="img" aria-label={t('at {{stage}}', { stage })}>
      <line x1="0" x2="300" y1="25" y2="25" stroke="var(--oak)" />
      {Array.from({ length: (STAGES.length - 1) * 5 + 1 }, (_, i) => (
        <line key={i} x1={x(i / 5)} x2={x(i / 5)} y1={i % 5 ? 20 : 12} y2="25" stroke="var(--oak)" strokeWidth={i % 5 ? 0.7 : 1.3} />
      ))}
      <path d={`M${x(at) - 5} 1 h10 l-5 9 z`} fill="var(--deep)" />
    </svg>
  )
}
