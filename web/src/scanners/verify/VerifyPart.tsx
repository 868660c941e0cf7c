import { Button, Select } from 'antd'
import { useState } from 'react'
import type { VerificationRun, VerificationSummary } from '@oak-gauge/contract'
import type { BarReading } from '@oak-gauge/core/calibrate/ballbar.ts'
import { API, addressOf } from '@oak-gauge/contract'
import { problemOf, useActOnRunMutation, useArtefactsQuery, useScannerRunQuery, useStartVerificationMutation, useVerificationQuery } from '../../api.ts'
import { Card } from '../../looks/Card.tsx'
import { ProblemBox } from '../../looks/ProblemBox.tsx'
import { formatMoment } from '../../looks/when.ts'
import { Exposure } from '../Exposure.tsx'
import { AddCertificate, CertificateWords } from '../certificates.tsx'
import { ColdNote, isCold } from '../Cold.tsx'
import type { ScannerPart } from '../ScannerPage.tsx'
import { VolumePicture } from './VolumePicture.tsx'

const WORDS = { form: 'Probing form, 95 %', size: 'Probing size, diameter', distance: 'Sphere distance' } as const

/** A ball bar in seven positions, and the verdict. */
export function VerifyPart(props: ScannerPart) {
  const { scanner } = props
  const { data } = useScannerRunQuery(scanner.id)
  const [again, setAgain] = useState<string | null>(null)
  const run = data?.kind === 'verification' ? data : null
  const shown = run?.verification ?? scanner.verification?.id ?? ''
  // `data` would still hold the verification of the calibration before
  const { currentData: result } = useVerificationQuery(shown, { skip: !shown })
  const { data: artefacts } = useArtefactsQuery()
  const length = artefacts?.find((a) => a.name === (run?.bar ?? result?.bar))?.size ?? scanner.spec.barLength
  const open = run && run.phase !== 'done' && run.phase !== 'failed'
  const readings = open ? run.readings : (result?.readings ?? [])
  return (
    <>
      <div className="view resultview">
        {readings.length || open ? (
          <>
            <VolumePicture scanner={scanner} readings={readings} length={length} limit={scanner.spec.limits.distance} />
            <Readings readings={readings} limit={scanner.spec.limits.distance} />
          </>
        ) : (
          <div className="empty">
            <div className="teach">
              <BarPicture />
              <b>Two spheres at a certified distance tell whether the scanner keeps its word.</b>
              <span className="soft">The bar is measured in seven positions over the working volume, with the scanner standing still.</span>
            </div>
          </div>
        )}
      </div>
      {open ? (
        <Running {...props} run={run} />
      ) : shown && !result ? (
        // not yet known whether there is something to show
        <Card question="Reading the last verification" />
      ) : result && again !== result.id && (run?.verification === result.id || scanner.verification) ? (
        <Result {...props} result={result} onAgain={() => setAgain(result.id)} />
      ) : (
        <Begin {...props} busy={data?.kind === 'calibration' && !['done', 'failed'].includes(data.phase)} />
      )}
    </>
  )
}

function Begin({ scanner: s, busy }: ScannerPart & { busy: boolean }) {
  const { data: artefacts } = useArtefactsQuery()
  const bars = artefacts?.filter((a) => a.kind === 'ball-bar') ?? []
  const nearest = bars.length ? bars.reduce((a, b) => (Math.abs(b.size - s.spec.barLength) < Math.abs(a.size - s.spec.barLength) ? b : a)) : undefined
  const [chosen, setChosen] = useState<string | null>(null)
  const [anyway, setAnyway] = useState(false)
  const [start, { error, isLoading }] = useStartVerificationMutation()
  const bar = bars.find((b) => b.id === chosen) ?? nearest
  const cold = isCold(s)
  const away = s.link !== 'connected'
  const problem = problemOf(error)
  return (
    <Card
      question="Which ball bar is it?"
      about={`A length near ${s.spec.barLength} mm fills the working volume of ${s.name}.`}
      foot={
        <Button
          type="primary"
          disabled={!bar || busy || away || (cold && !anyway)}
          loading={isLoading}
          onClick={() => bar && void start({ id: s.id, body: { bar: bar.id, cold: cold && anyway } })}
        >
          Begin
        </Button>
      }
    >
      <div className="field">
        <label htmlFor="bar">Ball bar</label>
        <Select
          id="bar"
          className="control"
          value={bar?.id ?? null}
          onChange={setChosen}
          options={bars.map((b) => ({ value: b.id, label: `${b.name}, ${b.size.toFixed(1)} mm` }))}
        />
        {bar && <CertificateWords of={bar} />}
      </div>
      <AddCertificate kind="ball bar" />
      {away && (
        <p className="note">{s.on ? (s.problem?.detail ?? 'The scanner is being connected.') : 'The scanner is switched off: switch it on under State.'}</p>
      )}
      {cold && <ColdNote scanner={s} anyway="Verify anyway" checked={anyway} onChange={setAnyway} />}
      {busy && <p className="note">A calibration is going on.</p>}
      {problem && <ProblemBox problem={problem} />}
    </Card>
  )
}

function Running({ scanner, run }: ScannerPart & { run: VerificationRun }) {
  const [act, { error }] = useActOnRunMutation()
  const problem = run.problem ?? problemOf(error)
  const n = run.readings.length
  const measuring = run.phase === 'measuring'
  return (
    <Card
      question={run.phase === 'waiting' ? 'The scanner is away' : `Position ${Math.min(n + 1, run.positions)} of ${run.positions}: the bar ${run.name}`}
      about={
        scanner.standIn
          ? 'The stand-in puts its bar there by itself.'
          : 'Lay the bar so that both spheres are in the working range, and touch neither it nor the scanner.'
      }
      foot={
        <>
          <Button type="primary" loading={measuring} disabled={run.phase === 'waiting'} onClick={() => void act({ id: scanner.id, what: 'take' })}>
            {measuring ? 'Measuring' : problem ? 'Measure it again' : 'Measure this position'}
          </Button>
          <Button onClick={() => void act({ id: scanner.id, what: 'cancel' })}>Give up</Button>
        </>
      }
    >
      <div className="taken">
        {Array.from({ length: run.positions }, (_, i) => (
          <i key={i} className={i < n ? 'over' : i === n ? 'now' : ''} />
        ))}
      </div>
      {scanner.standIn && (
        <Button size="small" disabled={run.phase !== 'ready'} onClick={() => void act({ id: scanner.id, what: 'take-all' })}>
          Measure all that are left
        </Button>
      )}
      <Exposure scanner={scanner} />
      {run.phase === 'waiting' && <p className="note">What has been measured is kept.</p>}
      {problem && <ProblemBox problem={problem} />}
    </Card>
  )
}

function Result({ scanner, result: v, onAgain, go }: ScannerPart & { result: VerificationSummary; onAgain(): void }) {
  const said = { pass: 'Pass', fail: 'No-go', 'not decidable': 'Not decidable' }[v.verdict]
  return (
    <Card
      question={`${scanner.name} against its limits`}
      foot={
        <>
          {v.verdict === 'fail' ? (
            <Button type="primary" onClick={() => go('Calibrate')}>
              Calibrate
            </Button>
          ) : (
            <Button type="primary" href={addressOf(API.certificate, { id: v.id })} target="_blank" rel="noreferrer">
              Certificate to print
            </Button>
          )}
          <Button onClick={onAgain}>Verify again</Button>
        </>
      }
    >
      <p className={`verdict ${v.verdict === 'pass' ? 'go' : v.verdict === 'fail' ? 'no-go' : 'due'}`} data-verdict={v.verdict}>
        <b>{said}</b>
        <span>
          {formatMoment(v.at)}, {v.bar}
          {v.cold ? ', cold' : ''}
        </span>
      </p>
      <table className="numbers">
        <thead>
          <tr>
            <th>worst of {v.positions}</th>
            <th>mm</th>
            <th>U</th>
            <th>limit</th>
            <th />
          </tr>
        </thead>
        <tbody>
          {v.rows.map((r) => (
            <tr key={r.name}>
              <th>{WORDS[r.name]}</th>
              <td data-quantity={r.name}>{r.value.toFixed(3)}</td>
              <td>{r.uncertainty.toFixed(3)}</td>
              <td>{r.limit.toFixed(3)}</td>
              <td>{r.verdict}</td>
            </tr>
          ))}
        </tbody>
      </table>
      <p className="hint">
        Decided by ISO 14253-1: inside the limit by more than the expanded uncertainty U passes, outside by more than U fails; between is not decidable with
        this measurement.
      </p>
      {v.verdict === 'fail' && (
        <a href={addressOf(API.certificate, { id: v.id })} target="_blank" rel="noreferrer">
          Page to print (PDF)
        </a>
      )}
    </Card>
  )
}

function Readings({ readings, limit }: { readings: BarReading[]; limit: number }) {
  if (!readings.length) return null
  return (
    <table className="numbers" data-readings={readings.length}>
      <thead>
        <tr>
          <th>position</th>
          <th>distance error</th>
          <th>U</th>
          <th>form 1</th>
          <th>size 1</th>
          <th>form 2</th>
          <th>size 2</th>
          <th>points</th>
        </tr>
      </thead>
      <tbody>
        {readings.map((r, i) => (
          <tr key={i} className={Math.abs(r.distance) > limit ? 'bad' : ''}>
            <th>{i + 1}</th>
            <td>{r.distance.toFixed(4)}</td>
            <td>{(2 * r.uncertainty).toFixed(4)}</td>
            <td>{r.spheres[0].form.toFixed(3)}</td>
            <td>{r.spheres[0].size.toFixed(4)}</td>
            <td>{r.spheres[1].form.toFixed(3)}</td>
            <td>{r.spheres[1].size.toFixed(4)}</td>
            <td>{r.spheres[0].points + r.spheres[1].points}</td>
          </tr>
        ))}
      </tbody>
    </table>
  )
}

function BarPicture() {
  return (
    <svg viewBox="0 0 260 90" width="260" height="90" aria-hidden="true">
      <line x1="50" y1="52" x2="210" y2="38" stroke="var(--oak)" strokeWidth="9" />
      <circle cx="44" cy="52" r="24" fill="var(--card)" stroke="var(--deep)" strokeWidth="2" />
      <circle cx="216" cy="38" r="24" fill="var(--card)" stroke="var(--deep)" strokeWidth="2" />
      <path d="M44 10v-6M216 6V2M44 7L216 4" stroke="var(--ink)" fill="none" />
    </svg>
  )
}
