import { Button } from 'antd'
import { useEffect, useRef, useState } from 'react'
import type { CalibrationRun, HandRequest } from '@oak-gauge/contract'
import { problemOf, useActOnRunMutation, useCalibrationQuery, useScannerRunQuery } from '../../api.ts'
import { Card } from '../../looks/Card.tsx'
import { ProblemBox } from '../../looks/ProblemBox.tsx'
import type { ScannerPart } from '../ScannerPage.tsx'
import { Exposure } from '../Exposure.tsx'
import { BeginCalibration } from './BeginCalibration.tsx'
import { CameraPicture } from './CameraPicture.tsx'
import { CoverageMap } from './CoverageMap.tsx'
import { Guidance } from './Guidance.tsx'
import { ResultView } from './ResultView.tsx'
import { useLive } from './useLive.ts'
import { t } from '../../words/t.ts'

/** Calibrating: choose the plate, show it in pose after pose, look at what came out. */
export function CalibratePart(props: ScannerPart) {
  const { scanner } = props
  const { data } = useScannerRunQuery(scanner.id)
  const [again, setAgain] = useState<string | null>(null)
  const run = data?.kind === 'calibration' ? data : null
  const { currentData: result } = useCalibrationQuery(run?.calibration ?? '', { skip: !run?.calibration })
  if (run?.phase === 'done' && run.calibration !== again)
    return result ? <ResultView {...props} calibration={result} onAgain={() => setAgain(run.calibration)} /> : null
  const given = run?.phase === 'failed' && run.problem?.code === 'cancelled'
  if (run && run.phase !== 'done' && !given) return <Running {...props} run={run} />
  return <BeginCalibration {...props} busy={data?.kind === 'verification' && !['done', 'failed'].includes(data.phase)} />
}

function Running({ scanner, run: known }: ScannerPart & { run: CalibrationRun }) {
  const live = useLive(scanner.id, known.phase === 'looking' || known.phase === 'waiting')
  // images are newer than what was told of the run, except that it may have ended meanwhile
  const run = live && live.state.taken >= known.taken && known.phase === 'looking' ? live.state : known
  const [act, { error, isLoading }] = useActOnRunMutation()
  const problem = problemOf(error)
  const hand = useHand((body) => void act({ id: scanner.id, what: 'hand', body }))
  const onHand = scanner.standIn && run.way === 'hand' && run.phase === 'looking' ? hand : undefined
  const say = {
    looking: run.way === 'hand' ? t('Hold the plate like the ghost') : run.way === 'turntable' ? t('The table turns the plate') : t('The plate is shown'),
    waiting: t('The scanner is away'),
    solving: t('Computing'),
    failed: t('These poses are not enough'),
    done: t('Done'),
  }[run.phase]
  return (
    <>
      <div className="view cameraview">
        {live ? (
          <div className="pair" data-sequence={live.sequence}>
            {live.sides.map((s, k) => (
              <CameraPicture key={k} side={s} name={k === 0 ? 'left' : 'right'} onHand={onHand} />
            ))}
          </div>
        ) : (
          <div className="empty">
            <span className="soft">
              {run.phase === 'solving' ? t('Cameras, plate and poses are being solved together.') : t('Waiting for the first images')}
            </span>
          </div>
        )}
        <div className="below">
          <CoverageMap coverage={run.coverage.left} label={t('left image')} />
          <CoverageMap coverage={run.coverage.right} label={t('right image')} />
          <div className="say" role="status">
            {run.trouble ? (
              <>
                <b>{run.trouble.message}</b>
                <span>{run.trouble.remedy}</span>
              </>
            ) : run.advice ? (
              <>
                <b>{run.advice.message}</b>
                <span>{run.advice.remedy}</span>
              </>
            ) : run.phase === 'looking' && run.match?.matched ? (
              <b>{run.still ? t('taken') : t('hold still')}</b>
            ) : (
              <span className="soft">
                {onHand ? t('Drag moves the plate, with Shift it is tilted, with Alt turned; the wheel brings it nearer or further.') : run.name}
              </span>
            )}
          </div>
        </div>
      </div>
      <Card
        question={say}
        about={
          run.phase === 'looking'
            ? t('{{name}} ({{at}} of {{targets}})', { name: run.name, at: Math.min(run.target + 1, run.targets), targets: run.targets })
            : undefined
        }
        foot={
          run.phase === 'failed' ? (
            <>
              <Button type="primary" loading={isLoading} onClick={() => void act({ id: scanner.id, what: 'on' })}>
                {t('Take more poses')}
              </Button>
              <Button onClick={() => void act({ id: scanner.id, what: 'cancel' })}>{t('Give up')}</Button>
            </>
          ) : (
            <>
              <Button
                type="primary"
                disabled={run.taken < 6 || run.phase !== 'looking'}
                loading={run.phase === 'solving'}
                onClick={() => void act({ id: scanner.id, what: 'solve' })}
              >
                {t('Compute with {{taken}} poses', { taken: run.taken })}
              </Button>
              <Button onClick={() => void act({ id: scanner.id, what: 'cancel' })}>{t('Give up')}</Button>
            </>
          )
        }
      >
        <div className="taken" aria-label={t('{{taken}} poses taken', { taken: run.taken })}>
          {Array.from({ length: run.targets }, (_, i) => (
            <i key={i} className={i < run.target ? 'over' : i === run.target ? 'now' : ''} />
          ))}
        </div>
        <dl className="rows">
          <dt>{t('Poses taken')}</dt>
          <dd data-quantity="taken">{run.taken}</dd>
          {run.skipped > 0 && (
            <>
              <dt>{t('passed over')}</dt>
              <dd>{run.skipped}</dd>
            </>
          )}
          <dt>{t('Plate')}</dt>
          <dd>{run.plate}</dd>
        </dl>
        {run.way === 'hand' && run.phase === 'looking' && <Guidance run={run} onHand={onHand} />}
        {run.way === 'hand' && run.phase === 'looking' && (
          <Button size="small" onClick={() => void act({ id: scanner.id, what: 'skip' })}>
            {t('Pass over this pose')}
          </Button>
        )}
        {run.phase === 'looking' && run.way !== 'files' && <Exposure scanner={scanner} />}
        {run.phase === 'waiting' && <p className="note">{t('What has been taken is kept. It goes on by itself when the scanner answers again.')}</p>}
        {run.cold && <p className="note">{t('The scanner was not warm: this is recorded, and the calibration will not count as good.')}</p>}
        {run.problem && <ProblemBox problem={run.problem} />}
        {problem && <ProblemBox problem={problem} />}
      </Card>
    </>
  )
}

/** Movements of the hand, gathered and sent eight times a second. */
function useHand(send: (m: HandRequest) => void): (m: HandRequest) => void {
  const gathered = useRef<Record<string, number>>({})
  const latest = useRef(send)
  useEffect(() => {
    latest.current = send
  })
  useEffect(() => {
    const beat = setInterval(() => {
      const m = gathered.current
      if (Object.keys(m).length === 0) return
      gathered.current = {}
      latest.current(m)
    }, 125)
    return () => clearInterval(beat)
  }, [])
  return (m) => {
    for (const [k, v] of Object.entries(m)) gathered.current[k] = (gathered.current[k] ?? 0) + (v ?? 0)
  }
}
