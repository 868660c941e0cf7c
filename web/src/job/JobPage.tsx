import { App } from 'antd'
import { useCallback, useEffect, useMemo, useState } from 'react'
import { Link, useNavigate, useParams } from 'react-router'
import { currentStage, STAGES, type Stage } from '@oak-gauge/contract'
import { problemOf, useJobQuery, useMoveHeadMutation } from '../api.ts'
import { KeysHelp } from '../help/KeysHelp.tsx'
import { FindAction, type Action } from '../help/FindAction.tsx'
import { Boundary } from '../looks/Boundary.tsx'
import { ProblemBox } from '../looks/ProblemBox.tsx'
import { CARDS, OVERLAYS } from '../stages/cards.ts'
import { LedScanner } from '../stages/capture/LedScanner.tsx'
import { MarkerRings } from '../stages/mark/MarkerRings.tsx'
import { useAppDispatch, useAppSelector } from '../store.ts'
import { Stage3d } from '../view/Stage3d.tsx'
import { view } from '../view/viewSlice.ts'
import { EvidenceStrip } from './EvidenceStrip.tsx'
import { Ledger } from './Ledger.tsx'
import { Rule } from './Rule.tsx'
import { TopBar } from './TopBar.tsx'
import { Tray } from './Tray.tsx'
import { UnderView } from './Under.tsx'
import { JobProvider, useJobView } from './useJob.ts'
import { useKeys } from './useKeys.ts'
import { t } from '../words/t.ts'

export function JobPage() {
  const { id = '', stage } = useParams()
  const { data, error } = useJobQuery(id)
  const job = useJobView(data, stage)
  const navigate = useNavigate()
  const dispatch = useAppDispatch()
  const { message } = App.useApp()
  const [moveHead] = useMoveHeadMutation()
  const [finding, setFinding] = useState(false)
  const [keys, setKeys] = useState(false)
  const evening = useAppSelector((s) => s.view.evening)

  useEffect(() => {
    document.title = data ? t('{{title}} · Oak Gauge', { title: data.job.title }) : 'Oak Gauge'
  }, [data])
  // a job is opened where it stands
  useEffect(() => {
    if (job && !STAGES.some((s) => s === stage)) void navigate(`/jobs/${id}/${currentStage(job.states)}`, { replace: true })
  }, [job, stage, id, navigate])
  // on leaving, not on coming: what the next card asks for is said before this page's own effects run
  useEffect(() => () => void dispatch(view.cleared()), [id, stage, dispatch])
  useEffect(
    () => () => {
      dispatch(view.colours({ map: null }))
      dispatch(view.faces([]))
    },
    [id, dispatch],
  )

  const go = useCallback((s: Stage) => void navigate(`/jobs/${id}/${s}`), [id, navigate])
  const step = useCallback(
    async (to: string | null) => {
      const r = await moveHead({ id, step: to })
      if (r.error) void message.warning(problemOf(r.error)?.detail ?? '')
    },
    [id, moveHead, message],
  )
  const last = job?.path.at(-1)
  const back = useMemo(() => (last && !job?.busy ? () => void step(last.parent) : null), [last, job?.busy, step])
  const forward = useMemo(() => (data?.forward && !job?.busy ? () => void step(data.forward) : null), [data?.forward, job?.busy, step])
  const actions: Action[] = useMemo(
    () => [
      ...STAGES.map((s) => ({ name: t('Go to {{stage}}', { stage: s }), run: () => go(s) })),
      { name: t('Frame everything'), key: 'F', run: () => dispatch(view.frameAll()) },
      ...[t('front'), t('right'), t('back'), t('left'), t('above'), t('below')].map((side, i) => ({
        name: t('View from {{side}}', { side }),
        key: String(i + 1),
        run: () => dispatch(view.lookFrom(i + 1)),
      })),
      ...(back ? [{ name: t('Step back'), key: 'Z', run: back }] : []),
      ...(forward ? [{ name: t('Step forward'), key: 'Shift Z', run: forward }] : []),
      { name: t('Open the ledger'), key: 'L', run: () => dispatch(view.ledger(true)) },
      { name: t('Show all keys'), key: '?', run: () => setKeys(true) },
      { name: t('Back to the bench'), run: () => void navigate('/') },
      { name: evening ? t('Day colours') : t('Evening colours'), run: () => dispatch(view.evening(!evening)) },
    ],
    [go, dispatch, back, forward, navigate, evening],
  )
  useKeys({ back, forward, find: () => setFinding(true), help: () => setKeys(true) })

  if (error && !data)
    return (
      <div className="page-message">
        <ProblemBox problem={problemOf(error) ?? { code: '', detail: '', where: '', remedy: '' }} />
        <Link to="/">{t('Back to the bench')}</Link>
      </div>
    )
  if (!job) return <p className="soft page-message">{t('Loading')}</p>
  const Card = CARDS[job.stage]
  const Overlay = OVERLAYS[job.stage]
  return (
    <JobProvider value={job}>
      <div className="job">
        <Rule go={go} />
        <TopBar onFind={() => setFinding(true)} onKeys={() => setKeys(true)} />
        <div className="view">
          <Boundary about={id}>
            <Stage3d key={id}>
              {(stage3d) => (
                <>
                  <MarkerRings stage={stage3d} />
                  <LedScanner stage={stage3d} />
                </>
              )}
            </Stage3d>
          </Boundary>
          <Tray />
          {Overlay && (
            <Boundary about={`${id} ${job.stage}`}>
              <Overlay />
            </Boundary>
          )}
        </div>
        <UnderView />
        <Boundary about={`${id} ${job.stage} ${job.state.head ?? ''}`}>
          <Card key={`${id} ${job.stage}`} go={go} />
        </Boundary>
        <EvidenceStrip back={back} forward={forward} />
      </div>
      <Ledger />
      {finding && <FindAction actions={actions} onClose={() => setFinding(false)} />}
      {keys && <KeysHelp onClose={() => setKeys(false)} />}
    </JobProvider>
  )
}
