import { Button } from 'antd'
import { useEffect } from 'react'
import { Link, useParams } from 'react-router'
import { problemOf, useActOnRunMutation, useScannersQuery } from '../../api.ts'
import { ProblemBox } from '../../looks/ProblemBox.tsx'
import { count, duration } from '../../looks/quantity.ts'
import { SoundSwitch } from '../../scanners/SoundSwitch.tsx'
import { isOver, useLiveRun } from '../../scanners/useLiveRun.ts'
import { WorkingDistance } from '../../scanners/WorkingDistance.tsx'
import { askOf, mainOf, STATE, whyOf } from './said.ts'
import { t } from '../../words/t.ts'

/** The same recording in large type, for a phone or a tablet beside the part, where both hands are: what to do, the state, the distance, and one button. */
export function LivePage() {
  const { id = '' } = useParams()
  const { data: scanners } = useScannersQuery()
  const scanner = scanners?.find((s) => s.id === id)
  const run = useLiveRun(id, 'capture')
  const [act, { error }] = useActOnRunMutation()
  const open = run !== null && !isOver(run)
  const phase = open ? run.phase : null
  const main = open ? mainOf(run) : null
  useEffect(() => {
    document.title = scanner ? t('{{name}}, live · Oak Gauge', { name: scanner.name }) : 'Oak Gauge'
  }, [scanner])
  useEffect(() => {
    const onKey = (e: KeyboardEvent) => {
      if (e.key !== ' ' || !main || e.target instanceof HTMLButtonElement) return
      e.preventDefault()
      void act({ id, ...main })
    }
    window.addEventListener('keydown', onKey)
    return () => window.removeEventListener('keydown', onKey)
  }, [id, main, act])
  const problem = (open ? run.problem : null) ?? problemOf(error)
  if (!open)
    return (
      <main className="live">
        <h1>{scanner ? t('{{name}} records nothing', { name: scanner.name }) : t('This scanner is not on the shelf.')}</h1>
        <p className="ask">
          {scanner ? t('As soon as a pass is recorded with it, it is followed here.') : ''} <Link to="/">{t('Back to the bench')}</Link>
        </p>
      </main>
    )
  return (
    <main className="live">
      <h1 data-tracking={run.tracking} aria-live="polite">
        {phase === 'recording'
          ? STATE[run.tracking]
          : phase === 'ready'
            ? t('aiming')
            : phase === 'held'
              ? t('held')
              : phase === 'waiting'
                ? t('away')
                : t('stored')}
      </h1>
      <p className="ask">
        {askOf(run, scanner?.name ?? '')}
        {phase === 'recording' && whyOf(run) && <span className="soft"> {whyOf(run)}</span>}
      </p>
      <WorkingDistance range={run.range} distance={run.distance} nothing={t('nothing in view')} />
      <dl className="figures">
        <div>
          <dt>{t('frames')}</dt>
          <dd data-quantity="frames">{count(run.frames)}</dd>
        </div>
        {run.map && (
          <div>
            <dt>{t('markers in view')}</dt>
            <dd>{run.inView}</dd>
          </div>
        )}
        {run.quarantine > 0 && (
          <div>
            <dt>{t('wait for their place')}</dt>
            <dd>{count(run.quarantine)}</dd>
          </div>
        )}
        <div>
          <dt>{t('recorded')}</dt>
          <dd>{duration(1000 * run.seconds)}</dd>
        </div>
      </dl>
      {problem && <ProblemBox problem={problem} />}
      <div className="act">
        <Button type="primary" disabled={!main} onClick={() => main && void act({ id, ...main })}>
          {main?.label ?? t('Record')}
        </Button>
        <SoundSwitch run={run} />
      </div>
    </main>
  )
}
