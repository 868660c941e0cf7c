import { App, Button } from 'antd'
import { useEffect, useState } from 'react'
import { problemOf, useDeleteJobMutation, useJobsQuery } from '../api.ts'
import { Shelf } from '../scanners/Shelf.tsx'
import { Brand } from '../looks/Brand.tsx'
import { singleKeys } from '../help/singlekeys.ts'
import { ProblemBox } from '../looks/ProblemBox.tsx'
import { useAppDispatch, useAppSelector } from '../store.ts'
import { view } from '../view/viewSlice.ts'
import { JobCard } from './JobCard.tsx'
import { NewJob } from './NewJob.tsx'
import { t } from '../words/t.ts'

/** Home: jobs as cards, with a picture of the part, the stage reached, the tolerance and what is due. */
export function BenchPage() {
  const { data: jobs, error } = useJobsQuery()
  const [making, setMaking] = useState(false)
  const [remove] = useDeleteJobMutation()
  const { modal, message } = App.useApp()
  const evening = useAppSelector((s) => s.view.evening)
  const dispatch = useAppDispatch()
  useEffect(() => {
    document.title = t('Bench · Oak Gauge')
    const onKey = (e: KeyboardEvent) => {
      if (e.key === 'n' && singleKeys() && !e.ctrlKey && !e.metaKey && !(e.target instanceof HTMLInputElement) && !(e.target instanceof HTMLTextAreaElement))
        setMaking(true)
    }
    window.addEventListener('keydown', onKey)
    return () => window.removeEventListener('keydown', onKey)
  }, [])
  const problem = problemOf(error)
  return (
    <div className="bench">
      <header>
        <Brand />
        <span className="soft">{t('The bench')}</span>
        <span className="grow" />
        <Button onClick={() => dispatch(view.evening(!evening))}>{evening ? t('Day') : t('Evening')}</Button>
        <Button type="primary" onClick={() => setMaking(true)}>
          {t('New job')}
        </Button>
      </header>
      <div className="with-shelf">
        <main>
          <div className="title">
            <h1>{t('Jobs')}</h1>
            <span className="soft">{jobs ? (jobs.length ? t('{{jobs}} on the bench', { jobs: jobs.length }) : '') : ''}</span>
          </div>
          {problem && <ProblemBox problem={problem} />}
          {jobs?.length === 0 && (
            <div className="page-message flush">
              <p>
                {t(
                  'A job is one part: the passes recorded of it, its nominal if there is one, and every step from there to the delivered mesh. The demo jobs appear here within a minute of the first start.',
                )}
              </p>
              <div>
                <Button type="primary" onClick={() => setMaking(true)}>
                  {t('New job')}
                </Button>
              </div>
            </div>
          )}
          <div className="jobs">
            {jobs?.map((j) => (
              <JobCard
                key={j.id}
                job={j}
                onDelete={() =>
                  void modal.confirm({
                    title: t('Delete “{{title}}”?', { title: j.title }),
                    content: t('The job, its passes and its whole ledger go. This cannot be undone.'),
                    okText: t('Delete'),
                    okButtonProps: { danger: true },
                    cancelText: t('Keep it'),
                    onOk: () =>
                      remove(j.id).then((r) => {
                        if (r.error) void message.error(problemOf(r.error)?.detail ?? '')
                      }),
                  })
                }
              />
            ))}
          </div>
        </main>
        <Shelf />
      </div>
      {making && <NewJob onClose={() => setMaking(false)} />}
    </div>
  )
}
