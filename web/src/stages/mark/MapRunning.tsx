import { Button, InputNumber, Select } from 'antd'
import { useEffect, useState, type ReactNode } from 'react'
import type { MappedMarker, MappingRun } from '@oak-gauge/contract'
import { problemOf, useActOnRunMutation } from '../../api.ts'
import { Card } from '../../looks/Card.tsx'
import { ProblemBox } from '../../looks/ProblemBox.tsx'
import { fixed } from '../../looks/quantity.ts'
import { VirtualHand } from '../../scanners/VirtualHand.tsx'
import { WorkingDistance } from '../../scanners/WorkingDistance.tsx'
import { t } from '../../words/t.ts'
import { Words } from '../../words/Words.tsx'

const LACKS: Record<MappedMarker['state'], string> = {
  new: t('just found'),
  frames: t('a little longer'),
  directions: t('from more sides'),
  enough: '',
  gone: t('gone'),
}
const WHY: Record<string, string> = {
  'too-few': t('too few markers in view'),
  'on-a-line': t('the markers in view lie on one line'),
  'no-match': t('these markers are not in the map'),
  ambiguous: t('these markers look like others'),
  'too-few-known': t('most of what is in view is not in the map'),
}

/** Markers being recorded: what is seen, what is known, what moved, and what is still wanted. */
export function MapRunning({ head, run, scanner }: { head: ReactNode; run: MappingRun; scanner: { id: string; name: string } }) {
  const [act, { error }] = useActOnRunMutation()
  const problem = run.problem ?? problemOf(error)
  const send = (what: string, body?: object) => void act({ id: scanner.id, what, ...(body ? { body } : {}) })
  const total = run.markers.length
  const wanting = run.markers.filter((m) => m.state !== 'enough' && m.state !== 'gone')
  const away = run.phase === 'waiting'
  const recording = run.phase === 'recording'
  return (
    <Card
      question={
        away
          ? t('The scanner is away')
          : run.tracking === 'lost'
            ? t('Lost: lead it back to where it knew its place')
            : total && !wanting.length
              ? t('All markers are known well enough')
              : t('Show it the markers from all sides')
      }
      foot={
        <>
          <Button type="primary" disabled={run.phase === 'solving' || total < 4} loading={run.phase === 'solving'} onClick={() => send('end')}>
            {run.phase === 'solving' ? t('Storing') : t('That is all: make the map')}
          </Button>
          <Button disabled={run.phase === 'solving'} onClick={() => send(recording || away ? 'hold' : 'on')}>
            {recording || away ? t('Hold') : t('Go on')}
          </Button>
          <Button disabled={run.phase === 'solving'} onClick={() => send('cancel')}>
            {t('Give up')}
          </Button>
        </>
      }
    >
      {head}
      <dl className="rows" data-evidence="mapping">
        <dt>{t('known well enough')}</dt>
        <dd data-quantity="enough">{t('{{enough}} of {{total}}', { enough: run.enough, total })}</dd>
        <dt>{t('in view, of them placed')}</dt>
        <dd data-quantity="in view">
          {run.inView} / {run.fits}
        </dd>
        <dt>{t('frames, of them not placed')}</dt>
        <dd data-quantity="frames">
          {run.frames} / {run.lost}
        </dd>
      </dl>
      <WorkingDistance range={run.range} distance={run.distance} nothing={t('no markers in view')} />
      {run.tracking === 'lost' && (
        <p className="note">{t('{{why}}. Nothing of this goes into the map.', { why: WHY[run.why] ?? t('the place is not known') })}</p>
      )}
      {run.tracking === 'few' && recording && <p className="note">{t('Fewer than four markers in view.')}</p>}
      {run.moved.some((m) => m.together.length > 0) && (
        <p className="note" data-moved-together>
          {t('{{join}} moved at one time, the others did not: the part was nudged against the table, or the other way round.', {
            join: run.moved.find((m) => m.together.length)?.together.join(', '),
          })}
        </p>
      )}
      {run.moved
        .filter((m) => !m.together.length)
        .map((m, i) => (
          <p className="note" key={`${m.id} ${i}`} data-moved={m.id}>
            <Words
              of={'Marker {{id}} moved by <figure>{{distance}}</figure> ± <figure>{{uncertainty}}</figure> mm. Its place from now on is the new one.'}
              values={{ id: m.id, distance: fixed(m.distance, 3), uncertainty: fixed(2 * m.uncertainty, 3) }}
              parts={{ figure: <span className="figure" /> }}
            />
          </p>
        ))}
      {run.missing.map((id) => (
        <p className="note" key={id} data-missing={id}>
          {t('Marker {{id}} is gone: it is not seen where it should be.', { id })}
        </p>
      ))}
      {run.added.length > 0 && (
        <p className="hint" data-added>
          {t('Not planned or known before, in the map now: {{join}}.', { join: run.added.join(', ') })}
        </p>
      )}
      {run.absent.length > 0 && (
        <p className="hint" data-absent>
          {t('Planned and not found yet: {{join}}.', { join: run.absent.join(', ') })}
        </p>
      )}
      {run.standIn && <Hand run={run} send={send} />}
      {problem && <ProblemBox problem={problem} />}
      <div className="list">
        <table className="numbers">
          <thead>
            <tr>
              <th>{t('marker')}</th>
              <th>U, mm</th>
              <th>{t('angle')}</th>
              <th>{t('wants')}</th>
            </tr>
          </thead>
          <tbody>
            {[...run.markers]
              .filter((m) => m.id !== '')
              .sort((a, b) => (b.u ?? 9) - (a.u ?? 9))
              .map((m) => (
                <tr key={m.id}>
                  <th>{m.id}</th>
                  <td data-u={m.id}>{m.u === null ? '' : fixed(m.u, 4)}</td>
                  <td>{fixed(m.angle, 0)}°</td>
                  <td>{m.moved !== null ? t('moved') : LACKS[m.state]}</td>
                </tr>
              ))}
          </tbody>
        </table>
      </div>
    </Card>
  )
}

/** The virtual hand of a stand-in: a path by itself, or step by step; and what happens to markers in a workshop. */
function Hand({ run, send }: { run: MappingRun; send(what: string, body?: object): void }) {
  const named = run.markers.filter((m) => m.id !== '')
  const [marker, setMarker] = useState<string | null>(null)
  const [by, setBy] = useState(0.3)
  useEffect(() => {
    if (marker === null && named.length) setMarker(named[Math.floor(named.length / 2)].id)
  }, [marker, named])
  return (
    <div className="stack hand">
      <VirtualHand path={run.path} moves={run.phase === 'recording'} turntable={run.turntable} send={send} />
      {named.length > 0 && (
        <div className="abreast">
          <Button size="small" disabled={!marker || run.phase !== 'recording'} onClick={() => marker && send('nudge', { marker, distance: by })}>
            {t('Knock against')}
          </Button>
          <Select
            size="small"
            aria-label={t('Marker to knock against')}
            className="control tiny"
            value={marker}
            onChange={setMarker}
            // a list that is drawn in part only takes the marker away from under the hand while it scrolls to the chosen one
            virtual={false}
            options={named.map((m) => ({ value: m.id, label: m.id })).sort((p, q) => p.label.localeCompare(q.label, 'en', { numeric: true }))}
          />
          <InputNumber
            size="small"
            aria-label={t('By how much, mm')}
            className="control tiny"
            min={0.01}
            max={50}
            step={0.1}
            value={by}
            onChange={(v) => setBy(v ?? 0.3)}
          />
          <span className="soft">mm</span>
        </div>
      )}
    </div>
  )
}
