import { Button } from 'antd'
import { Link } from 'react-router'
import type { CaptureRun } from '@oak-gauge/contract'
import { problemOf, useActOnRunMutation, useHealthQuery } from '../../api.ts'
import { Card } from '../../looks/Card.tsx'
import { ProblemBox } from '../../looks/ProblemBox.tsx'
import { bytes, count, duration, fixed } from '../../looks/quantity.ts'
import { SoundSwitch } from '../../scanners/SoundSwitch.tsx'
import { VirtualHand } from '../../scanners/VirtualHand.tsx'
import { Under } from '../../job/Under.tsx'
import { WorkingDistance } from '../../scanners/WorkingDistance.tsx'
import { t } from '../../words/t.ts'
import { FloorPart, floorOf } from './FloorPart.tsx'
import { LightPart } from './LightPart.tsx'
import { NextViews } from './NextViews.tsx'
import { PlaceAnew } from './PlaceAnew.tsx'
import { askOf, mainOf, STATE, whyOf } from './said.ts'
import { TablePart } from './TablePart.tsx'
import { TimeLine } from './TimeLine.tsx'
import { useLine } from './useLine.ts'
import { RECORDING, useModel } from './useModel.ts'

/** bytes that the database itself wants; s of a recording after which its pace is known; minutes that are few, and few enough to be told of */
const RESERVE = 256e6
const KNOWN_AFTER = 20
const SOON = 5
const TELL = 120
/** ms between two looks at the disk */
const LOOK = 10_000

/** How many minutes more fit on the disk; null: nobody need think of that, or it is not known. free: bytes */
export function minutesLeft({ bytes, seconds }: Pick<CaptureRun, 'bytes' | 'seconds'>, free: number | undefined): number | null {
  if (free === undefined || seconds < KNOWN_AFTER || bytes <= 0) return null
  // what is kept becomes a file of the job at the end: until then there are both
  const minutes = (Math.max(0, free - RESERVE - bytes) * seconds) / (2 * bytes) / 60
  return minutes < TELL ? minutes : null
}

/** A recording that goes on: how it is tracked, how far it has come, and the hand. */
export function Recording({ run, scanner }: { run: CaptureRun; scanner: { id: string; name: string } }) {
  const [act, { error }] = useActOnRunMutation()
  useModel(scanner.id, run)
  const line = useLine(scanner.id, run)
  const problem = run.problem ?? problemOf(error)
  const send = (what: string, body?: object) => void act({ id: scanner.id, what, ...(body ? { body } : {}) })
  const { phase, tracking } = run
  const main = mainOf(run)
  const recording = phase === 'recording'
  const solving = phase === 'solving'
  const { data: health } = useHealthQuery(undefined, { pollingInterval: LOOK, skip: !recording })
  const left = minutesLeft(run, health?.space?.free)
  return (
    <Card
      question={askOf(run, scanner.name)}
      foot={
        <>
          {main && (
            <Button type="primary" onClick={() => send(main.what, main.body)}>
              {main.label}
            </Button>
          )}
          <Button disabled={solving || !run.frames} loading={solving} onClick={() => send('end')}>
            {solving ? t('Storing') : t('That is all: make the pass')}
          </Button>
          <Button disabled={solving} onClick={() => send('cancel')}>
            {t('Give up')}
          </Button>
        </>
      }
    >
      <p className="tracking" data-tracking={tracking} role="status">
        <b>{STATE[tracking]}</b> <span className="hint">{whyOf(run)}</span>
      </p>
      <dl className="rows" data-evidence="capture">
        <dt>{t('frames, of them placed')}</dt>
        <dd data-quantity="frames">
          {count(run.frames)} / {count(run.placed)}
        </dd>
        {run.quarantine > 0 && (
          <>
            <dt>{t('wait for their place')}</dt>
            <dd data-quantity="quarantine">{count(run.quarantine)}</dd>
          </>
        )}
        {run.map && (
          <>
            <dt>{t('markers in view')}</dt>
            <dd data-quantity="in view">{run.inView}</dd>
          </>
        )}
        <dt>{t('frames a second')}</dt>
        <dd data-quantity="rate">{run.rate > 0 ? fixed(run.rate, 1) : '–'}</dd>
        <dt>{t('a frame is held within')}</dt>
        <dd data-quantity="sigma">{run.sigma === null ? '–' : `${fixed(run.sigma, 3)} mm`}</dd>
        <dt>{t('recorded')}</dt>
        <dd data-quantity="recorded">{run.seconds > 0 ? `${duration(1000 * run.seconds)}, ${bytes(run.bytes)}` : '–'}</dd>
      </dl>
      <WorkingDistance range={run.range} distance={run.distance} nothing={t('nothing in view')} />
      <div className="abreast">
        <SoundSwitch run={run} />
        <Link className="hint" to={`/live/${scanner.id}`} target="_blank">
          {t('Large, for beside the part')}
        </Link>
      </div>
      {left !== null && (
        <p className={left < SOON ? 'reason' : 'hint'} data-quantity="left">
          {t('At this pace the disk has room for about {{minutes}} more minutes.', { minutes: count(Math.max(0, Math.floor(left))) })}
        </p>
      )}
      {run.late > 0 && (
        <p className="hint">{t('{{late}} frames came faster than they were tracked: they are kept, and placed at the end.', { late: run.late })}</p>
      )}
      {!solving && (
        <details className="fine">
          <summary>{t('Light, floor, limits, spacing')}</summary>
          <LightPart light={run.light} send={send} />
          <FloorPart value={floorOf(run.floor)} markers={run.floor.markers} found={run.floor} set={(f) => send('floor', f)} />
          {phase === 'recording' || phase === 'waiting' ? (
            <p className="hint">{t('Hold it to set limits or another spacing: every frame is kept, and placed again.')}</p>
          ) : (
            <PlaceAnew was={run} range={run.range} busy={false} place={(c) => send('place-anew', c)} label={t('Place all frames so')} />
          )}
        </details>
      )}
      {run.table && <TablePart table={run.table} phase={phase} send={send} />}
      {run.standIn && !run.table && (
        <div className="stack hand">
          <VirtualHand path={run.path} moves={recording} lost={run.ghost !== null} send={send} />
        </div>
      )}
      {phase === 'held' && run.next && <NextViews next={run.next} table={run.table !== null} />}
      {problem && <ProblemBox problem={problem} />}
      {run.frames > 0 && (
        <Under>
          {/* while it grows the newest is shown, and nothing of it is cut */}
          <TimeLine
            line={line}
            slot={phase === 'held' ? RECORDING : null}
            without={run.without}
            change={phase === 'held' ? (spans) => send('leave-out', { spans }) : null}
          />
        </Under>
      )}
    </Card>
  )
}
