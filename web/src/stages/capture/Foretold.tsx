import { Button } from 'antd'
import { useEffect, useRef, useState } from 'react'
import type { Step, TrayItem } from '@oak-gauge/contract'
import type { QuantityId } from '@oak-gauge/core/operations/quantities.ts'
import { useOpenJob } from '../../job/useJob.ts'
import { useStep } from '../../job/useStep.ts'
import { StepProblem } from '../../job/WorkCard.tsx'
import { fixed, formatValue, short } from '../../looks/quantity.ts'
import { useAppDispatch, useAppSelector } from '../../store.ts'
import { view } from '../../view/viewSlice.ts'
import { Bands } from './Bands.tsx'
import { t } from '../../words/t.ts'

const valueOf = (s: Step | undefined, id: QuantityId) => s?.evidence?.quantities.find((q) => q.id === id)
const number = (s: Step | undefined, id: QuantityId): number | null => {
  const v = valueOf(s, id)?.value
  return typeof v === 'number' ? v : null
}
/** share of the frames that have no place, % */
const outside = (s: Step | undefined): number | null => {
  const [of, not] = [number(s, 'frames'), number(s, 'frames-not-placed')]
  return of && not !== null ? (100 * not) / of : null
}

type Face = NonNullable<NonNullable<Step['evidence']>['faces']>[number]
/** U of a place on it; where one part of that is not known, what the others come to is the least. */
function uncertainty({ u, parts }: Face): string {
  if (u !== 'unknown') return fixed(2 * u, 3)
  const known = parts?.flatMap((p) => (p.u === 'unknown' ? [] : [p.u])) ?? []
  return known.some((x) => x > 0) ? `≥ ${fixed(2 * Math.hypot(...known), 3)}` : '–'
}

/** What a rehearsal foretells, and beside it what came of the last recording after it. */
export function Foretold({ step, nominal }: { step: Step; nominal: TrayItem | undefined }) {
  const { path, passes } = useOpenJob()
  const after = path.slice(path.indexOf(step) + 1)
  const real = after.findLast((s) => s.operation === 'solve-recording' && s.state === 'done')
  // what came of that pass, wherever it was laid since
  const pass = passes.find((i) => real?.outputs['pass']?.includes(i.slot))
  const looked = after.findLast((s) => s.operation === 'inspect-recording' && s.state === 'done' && !!pass && s.inputs['pass']?.includes(pass.slot))
  const recorded = looked?.evidence?.faces
  const dispatch = useAppDispatch()
  const shown = useAppSelector((s) => s.view.faces)
  const slot = nominal?.faces ? nominal.slot : undefined
  const chosen = shown.length > 0
  const others = passes.map((i) => i.slot).join(' ')
  // a face is looked at on the nominal alone
  useEffect(() => {
    if (!slot || !chosen) return
    const hidden = others.split(' ').filter(Boolean)
    dispatch(view.pick({ kind: 'faces', slot }))
    dispatch(view.hide({ slots: [slot], hidden: false }))
    dispatch(view.hide({ slots: hidden, hidden: true }))
    return () => {
      dispatch(view.pick({ kind: 'none' }))
      dispatch(view.unhide([slot, ...hidden]))
    }
  }, [dispatch, slot, chosen, others])
  useEffect(() => () => void dispatch(view.faces([])), [dispatch])
  const { faces = [], warnings = [], timeline } = step.evidence ?? {}
  const limit = Number(step.params['limit'])
  const pick = (face: number) => dispatch(view.faces(shown.includes(face) ? [] : [face]))
  const row = (words: string, id: string, was: string, is: string | null) => (
    <tr key={id}>
      <th>{words}</th>
      <td data-foretold={id}>{was}</td>
      {real && <td>{is ?? ''}</td>}
    </tr>
  )
  const figure = (id: QuantityId, s: Step | undefined = step) => {
    const q = valueOf(s, id)
    return q ? `${formatValue(q)}${q.unit ? ` ${q.unit}` : ''}` : null
  }
  const u = (s: Step) => (number(s, 'foretold-u') === null ? t('not known') : (figure('foretold-u', s) ?? ''))
  const decidable = (s: Step) => t('{{share}} % of the faces', { share: fixed(number(s, 'faces-decidable') ?? 0, 0) })
  const share = (v: number | null) => (v === null ? null : `${fixed(v, v < 9.95 ? 1 : 0)} %`)
  const points = (s: Step | undefined) => {
    const n = number(s, 'points-measured')
    return n === null ? null : short(n)
  }
  return (
    <>
      <table className="numbers">
        <thead>
          <tr>
            <th />
            <th>{t('rehearsed')}</th>
            {real && <th>{t('recorded')}</th>}
          </tr>
        </thead>
        <tbody>
          {row(t('of the surface covered'), 'covered', share(number(step, 'covered')) ?? '', share(number(looked, 'covered')))}
          {row(t('U (k = 2), least certain face'), 'u', u(step), looked ? u(looked) : null)}
          {row(t('± {{limit}} mm can be decided on', { limit }), 'decidable', decidable(step), looked ? decidable(looked) : null)}
          {row(t('frames without a place'), 'outside', share(outside(step)) ?? '', share(outside(real)))}
          {row(t('a frame is held within'), 'held', figure('frame-sigma-median') ?? t('not held'), figure('frame-sigma-median', real))}
          {row(t('points measured'), 'points', points(step) ?? '', points(real))}
          {row(
            t('recording'),
            'seconds',
            `${fixed(number(step, 'seconds') ?? 0, 0)} s`,
            real?.evidence?.timeline ? `${fixed(real.evidence.timeline.seconds, 0)} s` : null,
          )}
          {row(t('kept'), 'bytes', `${fixed(number(step, 'megabytes') ?? 0, 1)} MB`, null)}
        </tbody>
      </table>
      {pass && !looked && nominal?.kind === 'mesh' && <LookWhatCame step={step} pass={pass} nominal={nominal} />}
      {warnings.map((w) => (
        <p className="note" key={w}>
          {w}
        </p>
      ))}
      {timeline && <Course line={timeline} />}
      {faces.length > 0 && (
        <div>
          <table className="numbers" aria-label={t('Faces')}>
            <thead>
              <tr>
                <th>{t('face')}</th>
                <th>{t('covered')}</th>
                <th>U, mm</th>
                {recorded && (
                  <>
                    <th>{t('recorded')}</th>
                    <th>U, mm</th>
                  </>
                )}
              </tr>
            </thead>
            <tbody>
              {faces.map((f) => (
                <tr key={f.of} data-face={f.face} className={shown.includes(f.face) ? 'chosen' : undefined}>
                  <th>
                    {nominal?.faces ? (
                      <button type="button" className="plain" aria-pressed={shown.includes(f.face)} onClick={() => pick(f.face)}>
                        {f.of}
                      </button>
                    ) : (
                      f.of
                    )}
                  </th>
                  <td>{fixed(100 * f.covered, 0)} %</td>
                  <Uncertain face={f} limit={limit} />
                  {recorded && <Came face={recorded.find((r) => r.face === f.face)} limit={limit} />}
                </tr>
              ))}
            </tbody>
          </table>
        </div>
      )}
    </>
  )
}

const Uncertain = ({ face, limit }: { face: Face; limit: number }) => (
  <td className={face.u !== 'unknown' && 2 * face.u > limit ? 'beyond' : undefined}>{uncertainty(face)}</td>
)
/** The same of what was really recorded. */
const Came = ({ face, limit }: { face: Face | undefined; limit: number }) =>
  face ? (
    <>
      <td>{fixed(100 * face.covered, 0)} %</td>
      <Uncertain face={face} limit={limit} />
    </>
  ) : (
    <td colSpan={2} />
  )

/** Merges and compares the recorded pass as the rehearsal did with its own: nothing of the job is moved. */
function LookWhatCame({ step, pass, nominal }: { step: Step; pass: TrayItem; nominal: TrayItem }) {
  const run = useStep()
  const { spacing, limit, scanner } = step.params as { spacing?: number; limit?: number; scanner?: { distance?: unknown } }
  const look = () =>
    void run.run({
      operation: 'inspect-recording',
      inputs: { pass: [pass.slot], nominal: [nominal.slot] },
      params: { spacing, limit, distance: scanner?.distance ?? null },
    })
  return (
    <>
      <Button size="small" className="alone" disabled={run.running} loading={run.running} onClick={look}>
        {t('Look what the recording came to')}
      </Button>
      <StepProblem of={run} />
    </>
  )
}

/** Where along the way it is steady, weak, or lost. */
function Course({ line }: { line: NonNullable<NonNullable<Step['evidence']>['timeline']> }) {
  const box = useRef<HTMLDivElement>(null)
  const [width, setWidth] = useState(0)
  useEffect(() => {
    if (!box.current) return
    const seen = new ResizeObserver(([e]) => setWidth(e.contentRect.width))
    seen.observe(box.current)
    return () => seen.disconnect()
  }, [])
  return (
    <section className="timeline course" aria-label={t('Along the way')}>
      <div className="lanes" ref={box}>
        {width > 0 && <Bands line={line} width={width} />}
      </div>
    </section>
  )
}
