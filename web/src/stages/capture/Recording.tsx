import { Button } from 'antd'
import type { CaptureRun } from '@oak-gauge/contract'
import { problemOf, useActOnRunMutation } from '../../api.ts'
import { Card } from '../../looks/Card.tsx'
import { ProblemBox } from '../../looks/ProblemBox.tsx'
import { bytes, count, duration, fixed } from '../../looks/quantity.ts'
import { VirtualHand } from '../../scanners/VirtualHand.tsx'
import { WorkingDistance } from '../../scanners/WorkingDistance.tsx'
import { t } from '../../words/t.ts'
import { useModel } from './useModel.ts'

const STATE: Record<CaptureRun['tracking'], string> = {
  none: t('nothing yet'),
  first: t('first frame'),
  steady: t('steady'),
  weak: t('weak'),
  lost: t('lost'),
  finding: t('finding its place'),
}
const WHY: Record<string, string> = {
  elsewhere: t('It sees nothing that is known.'),
  off: t('What it sees does not lie on what was recorded.'),
  hidden: t('What it sees would be hidden by what was recorded.'),
  jump: t('It moved faster than a hand does.'),
  free: t('What it sees could slide or turn.'),
  alike: t('What it sees could lie elsewhere as well.'),
}

/** A recording that goes on: how it is tracked, how far it has come, and the hand. */
export function Recording({ run, scanner }: { run: CaptureRun; scanner: { id: string; name: string } }) {
  const [act, { error }] = useActOnRunMutation()
  useModel(scanner.id, run)
  const problem = run.problem ?? problemOf(error)
  const send = (what: string, body?: object) => void act({ id: scanner.id, what, ...(body ? { body } : {}) })
  const { phase, tracking } = run
  const recording = phase === 'recording'
  const solving = phase === 'solving'
  return (
    <Card
      question={
        phase === 'ready'
          ? t('Hold {{name}} over the part, and record', { name: scanner.name })
          : phase === 'waiting'
            ? t('The scanner is away')
            : phase === 'held'
              ? t('Held: nothing is recorded')
              : tracking === 'lost'
                ? t('Lost: lead it back to where it knew its place')
                : tracking === 'finding'
                  ? t('Hold it still: its place is being found')
                  : t('Lead it over the part, from all sides')
      }
      foot={
        <>
          {/* the main one is what the space bar does while both hands are at the part: it never ends a recording */}
          {(phase === 'ready' || phase === 'held') && (
            <Button type="primary" onClick={() => send('record')}>
              {run.frames ? t('Go on') : t('Record')}
            </Button>
          )}
          {recording && (
            <Button type="primary" onClick={() => send('hold')}>
              {t('Hold')}
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
        <b>{STATE[tracking]}</b> <span className="hint">{WHY[run.why] ?? ''}</span>
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
        {run.by !== 'shape' && (
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
        <dd data-quantity="recorded">
          {duration(1000 * run.seconds)}, {bytes(run.bytes)}
        </dd>
      </dl>
      <WorkingDistance range={run.range} distance={run.distance} nothing={t('nothing in view')} />
      {run.late > 0 && (
        <p className="hint">{t('{{late}} frames came faster than they were tracked: they are kept, and placed at the end.', { late: run.late })}</p>
      )}
      {run.standIn && (
        <div className="stack hand">
          <VirtualHand path={run.path} moves={recording} lost={run.ghost !== null} send={send} />
        </div>
      )}
      {problem && <ProblemBox problem={problem} />}
    </Card>
  )
}
