import { Button } from 'antd'
import { useEffect, useRef, useState, type KeyboardEvent, type PointerEvent } from 'react'
import { cutOut, FATES, orderedSpans, type Timeline } from '@oak-gauge/core/capture/timeline.ts'
import { fixed } from '../../looks/quantity.ts'
import { useAppDispatch } from '../../store.ts'
import { view } from '../../view/viewSlice.ts'
import { Bands, SAID } from './Bands.tsx'
import { Seconds } from './Seconds.tsx'
import { t } from '../../words/t.ts'

type Span = [number, number]
/** px a pointer moves before a click is a drag */
const DRAG = 4
/** parts that Page Up and Page Down go by */
const PAGE = 10

interface Props {
  line: Timeline
  /** what it was recorded into: the stage shows that as it was at the cursor. null: nothing is shown of it just now */
  slot: string | null
  without: Span[]
  /** null: it cannot be cut just now */
  change: ((spans: Span[]) => void) | null
  children?: React.ReactNode
}

/**
 * How a recording went: what became of its frames, how fast they came, how well they are held. A click shows the model at that time, a drag chooses a span, which
 * is left out or taken in again.
 */
export function TimeLine({ line, slot, without, change, children }: Props) {
  const dispatch = useAppDispatch()
  const track = useRef<HTMLDivElement>(null)
  const [at, setAt] = useState<number | null>(null)
  const [span, setSpan] = useState<Span | null>(null)
  const [width, setWidth] = useState(0)
  useEffect(() => {
    if (!track.current) return
    const size = new ResizeObserver(([e]) => setWidth(e.contentRect.width))
    size.observe(track.current)
    return () => size.disconnect()
  }, [])
  const drag = useRef<{ x: number; from: number } | null>(null)
  const { seconds } = line
  const parts = line.rate.length
  const partOf = (s: number) => Math.max(0, Math.min(parts - 1, Math.floor((s / Math.max(seconds, 1e-9)) * parts)))
  const known = at === null ? null : line.known[partOf(at)]
  useEffect(() => void dispatch(view.upTo(slot !== null && known !== null ? { slot, known } : null)), [dispatch, slot, known])
  useEffect(() => () => void dispatch(view.upTo(null)), [dispatch])

  const timeAt = (e: PointerEvent) => {
    const box = track.current?.getBoundingClientRect()
    if (!box?.width) return 0
    return hundredths(Math.max(0, Math.min(1, (e.clientX - box.left) / box.width)) * seconds)
  }
  const onDown = (e: PointerEvent) => {
    e.currentTarget.setPointerCapture(e.pointerId)
    const s = timeAt(e)
    drag.current = { x: e.clientX, from: e.shiftKey && at !== null ? at : s }
    setSpan(e.shiftKey && at !== null ? ordered(at, s) : (without.find(([a, b]) => s >= a && s <= b) ?? null))
    setAt(s)
  }
  const onMove = (e: PointerEvent) => {
    if (!drag.current || Math.abs(e.clientX - drag.current.x) < DRAG) return
    const s = timeAt(e)
    setSpan(ordered(drag.current.from, s))
    setAt(s)
  }
  const clear = () => {
    setAt(null)
    setSpan(null)
  }
  const leaveOut = () => {
    if (!span || !change) return
    change(orderedSpans([...without, span]))
    setSpan(null)
  }
  const takeIn = () => {
    if (!span || !change) return
    change(cutOut(without, span))
    setSpan(null)
  }
  const onKey = (e: KeyboardEvent) => {
    const one = seconds / parts
    const now = at ?? seconds
    const to = {
      ArrowLeft: now - one,
      ArrowRight: now + one,
      PageDown: now - PAGE * one,
      PageUp: now + PAGE * one,
      Home: 0,
      End: seconds,
    }[e.key]
    if (to !== undefined) {
      const next = hundredths(Math.max(0, Math.min(seconds, to)))
      // the end that does not lie at the cursor stays
      if (e.shiftKey) setSpan(ordered(span ? (span[0] === now ? span[1] : span[0]) : now, next))
      setAt(next)
    } else if (e.key === 'Delete') leaveOut()
    else if (e.key === 'Escape') clear()
    else return
    e.preventDefault()
    e.stopPropagation()
  }
  const percent = (s: number) => `${fixed(100 * Math.max(0, Math.min(1, s / Math.max(seconds, 1e-9))), 3)}%`
  const lies = ([a, b]: Span) => ({ left: percent(a), width: `calc(${percent(b)} - ${percent(a)})` })
  const here = partOf(at ?? seconds)
  const state = FATES.filter((f) => line.shares[f][here] > 0)
    .sort((a, b) => line.shares[b][here] - line.shares[a][here])
    .map((f) => (line.shares[f][here] < 0.995 ? `${Math.round(100 * line.shares[f][here])} % ${SAID[f]}` : SAID[f]))
    .join(', ')
  const sigma = line.sigma[here]
  const told = [
    `${fixed(at ?? seconds, 2)} s`,
    state || t('no frames'),
    t('{{rate}} frames/s', { rate: fixed(line.rate[here], 1) }),
    ...(sigma === null ? [] : [t('held within {{mm}} mm', { mm: fixed(sigma, 3) })]),
  ].join(' · ')
  const out = span !== null && without.some(([a, b]) => a < span[1] && b > span[0])
  return (
    <section className="timeline" aria-label={t('How it went')}>
      <div className="told">
        <span className="figure one-line" data-told title={told}>
          {told}
        </span>
        {span && change && (
          <>
            <Seconds label={t('from, s')} value={span[0]} most={seconds} onChange={(v) => setSpan(ordered(v, span[1]))} />
            <Seconds label={t('to, s')} value={span[1]} most={seconds} onChange={(v) => setSpan(ordered(span[0], v))} />
            <Button size="small" onClick={leaveOut}>
              {t('Leave it out')}
            </Button>
          </>
        )}
        {out && change && (
          <Button size="small" onClick={takeIn}>
            {t('Take it in again')}
          </Button>
        )}
        {(at !== null || span) && (
          <Button size="small" onClick={clear}>
            {t('To its end')}
          </Button>
        )}
        {children}
      </div>
      <div className="lanes">
        <Bands line={line} width={width} />
        <div
          ref={track}
          className="track"
          role="slider"
          tabIndex={0}
          aria-label={t('Time of the recording')}
          aria-valuemin={0}
          aria-valuemax={seconds}
          aria-valuenow={at ?? seconds}
          aria-valuetext={told}
          onPointerDown={onDown}
          onPointerMove={onMove}
          onPointerUp={() => (drag.current = null)}
          onPointerCancel={() => (drag.current = null)}
          onKeyDown={onKey}
        >
          {without.map((s) => (
            <div key={s.join(' ')} className="left-out" style={lies(s)} />
          ))}
          {span && <div className="chosen" style={lies(span)} />}
          {at !== null && <div className="at" style={{ left: percent(at) }} />}
        </div>
      </div>
    </section>
  )
}

const hundredths = (s: number) => Number(fixed(s, 2))
const ordered = (a: number, b: number): Span => (a <= b ? [a, b] : [b, a])
