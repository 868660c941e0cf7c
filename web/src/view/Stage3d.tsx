import { useCallback, useEffect, useRef, useState, type PointerEvent as ReactPointerEvent, type ReactNode } from 'react'
import { useOpenJob } from '../job/useJob.ts'
import { useAppDispatch, useAppSelector } from '../store.ts'
import { Bearings } from './Bearings.tsx'
import { Flags } from './Flags.tsx'
import { Legend } from './Legend.tsx'
import { Marks } from './Marks.tsx'
import { Motions } from './Motions.tsx'
import { createStage, type Stage } from './scene.ts'
import { useCursor } from './useCursor.ts'
import { useShown } from './useShown.ts'
import { useWhole } from './useWhole.ts'
import { view } from './viewSlice.ts'
import { t } from '../words/t.ts'

/** points drawn while the view moves, and when it rests */
const HARDWARE = { moving: 1_500_000, resting: Infinity }
const SOFTWARE = { moving: 100_000, resting: 350_000 }

/** ms for which it is shown that a click met nothing */
const MISSED = 1200

/**
 * The 3D view. Drag turns, wheel comes nearer, right drag shifts, double click sets the place to turn about; a click picks when the card asks for it.
 * children: what the stages lay over it.
 */
export function Stage3d({ children }: { children?: (stage: Stage) => ReactNode }) {
  const canvas = useRef<HTMLCanvasElement>(null)
  const [stage, setStage] = useState<Stage | null>(null)
  const { shown, waiting, failed } = useShown()
  const job = useOpenJob()
  const v = useAppSelector((s) => s.view)
  const dispatch = useAppDispatch()
  const [loop, setLoop] = useState<number[]>([])
  const [broken, setBroken] = useState(false)
  const [lost, setLost] = useState(false)
  const [missed, setMissed] = useState<{ x: number; y: number } | null>(null)
  const down = useRef<{ x: number; y: number } | null>(null)
  const order = useRef<Promise<void>>(Promise.resolve())
  const asked = useRef(v.picking)
  useEffect(() => {
    asked.current = v.picking
  }, [v.picking])
  useEffect(() => {
    if (!missed) return
    const over = setTimeout(() => setMissed(null), MISSED)
    return () => clearTimeout(over)
  }, [missed])

  useEffect(() => {
    if (!canvas.current) return
    let s: Stage
    try {
      s = createStage(canvas.current)
    } catch {
      setBroken(true)
      return
    }
    setStage(s)
    const off = s.onContext((there) => setLost(!there))
    const size = new ResizeObserver(([e]) => s.resize(e.contentRect.width, e.contentRect.height))
    size.observe(canvas.current)
    return () => {
      size.disconnect()
      off()
      s.dispose()
      setStage(null)
    }
  }, [])

  useEffect(() => {
    stage?.setShown(shown, stage.software ? SOFTWARE : HARDWARE, waiting === 0)
  }, [stage, shown, waiting])
  useWhole(stage, shown, waiting === 0)
  useEffect(() => {
    stage?.look({
      limit: v.limit,
      scale: v.scale,
      chosen: v.faces,
      plane: v.going.kind === 'plane' ? { normal: v.going.normal, offset: v.going.offset, slots: new Set(v.going.slots) } : null,
    })
  }, [stage, shown, v.limit, v.scale, v.faces, v.going])
  const pairs = v.picking.kind === 'pairs' ? v.picking : null
  useEffect(() => {
    stage?.split(pairs ? { left: new Set(pairs.anchor), right: new Set(pairs.loose) } : null)
  }, [stage, pairs])
  useEffect(() => {
    if (v.standardView.count) stage?.lookFrom(v.standardView.view)
  }, [stage, v.standardView])
  useEffect(() => {
    if (v.frame) stage?.frame()
  }, [stage, v.frame])

  const at = useCallback((e: { clientX: number; clientY: number }) => {
    const r = canvas.current?.getBoundingClientRect()
    return { x: e.clientX - (r?.left ?? 0), y: e.clientY - (r?.top ?? 0) }
  }, [])

  const lasso = v.picking.kind === 'lasso' ? v.picking : null
  const onDown = (e: ReactPointerEvent) => {
    down.current = at(e)
    if (lasso && e.button === 0 && stage) {
      stage.lock(true)
      canvas.current?.setPointerCapture(e.pointerId)
      const p = at(e)
      setLoop([p.x, p.y])
    }
  }
  const onMove = (e: ReactPointerEvent) => {
    if (!loop.length) return
    const p = at(e)
    const [x, y] = loop.slice(-2)
    if (Math.hypot(p.x - x, p.y - y) > 3) setLoop([...loop, p.x, p.y])
  }
  const onUp = (e: ReactPointerEvent) => {
    const from = down.current
    down.current = null
    const p = at(e)
    if (loop.length && stage && canvas.current) {
      stage.lock(false)
      if (loop.length >= 12) closed(loop, e.altKey)
      setLoop([])
      return
    }
    if (!from || Math.hypot(p.x - from.x, p.y - from.y) > 4 || e.button !== 0) return
    cursor.hide()
    pickNext(p)
  }
  const closed = (corners: number[], remove: boolean) => {
    if (!lasso || !stage || !canvas.current) return
    const { clientWidth: w, clientHeight: h } = canvas.current
    const clip = corners.map((c, i) => (i % 2 ? 1 - (2 * c) / h : (2 * c) / w - 1))
    dispatch(view.looped({ ...stage.camera(), loop: clip, mode: remove ? 'remove' : lasso.mode }))
  }
  const pick = async (p: { x: number; y: number }) => {
    const { picking } = v
    if (!stage || picking.kind === 'none') return
    const [{ hit, half }] = await Promise.all([stage.pick(p.x, p.y), order.current.catch(() => undefined)])
    // looked for among many points, it takes a moment: the tool may have been put away
    if (asked.current !== picking) return
    if (!hit) return setMissed(p)
    if (picking.kind === 'faces') {
      if (hit.slot === picking.slot && hit.face !== null) dispatch(view.face(hit.face))
    } else if (picking.kind === 'pairs') dispatch(view.paired({ place: hit, side: half === 'right' ? 'loose' : 'anchor' }))
    else dispatch(view.placed(hit))
  }
  /** one after the other, in the order of the clicks */
  const pickNext = (p: { x: number; y: number }) => {
    order.current = pick(p)
  }
  const pivot = async (p: { x: number; y: number }) => {
    if (!stage || v.picking.kind !== 'none') return
    const { hit, half } = await stage.pick(p.x, p.y)
    if (hit) stage.pivot(hit.at, half)
    else setMissed(p)
  }

  const cursor = useCursor(stage, v.picking, { pick: pickNext, pivot: (p) => void pivot(p), loop: closed })
  const corners = loop.length ? loop : cursor.corners

  const nothing = job.state.tray.length === 0
  return (
    <>
      <canvas
        ref={canvas}
        tabIndex={0}
        aria-label={t('3D view')}
        className={v.picking.kind === 'none' ? 'turns' : 'picks'}
        onPointerDown={onDown}
        onPointerMove={onMove}
        onPointerUp={onUp}
        onDoubleClick={(e) => void pivot(at(e))}
        onKeyDown={cursor.onKeyDown}
        onContextMenu={(e) => e.preventDefault()}
        data-drawn={shown.length}
        data-waiting={waiting}
      />
      {corners.length > 2 && (
        <svg className="loops">
          <polygon points={corners.join(' ')} fill="rgb(47 81 104 / 0.12)" stroke="var(--slate)" strokeWidth="1.5" strokeDasharray="5 3" />
        </svg>
      )}
      {stage && <Marks stage={stage} />}
      {stage && <Motions stage={stage} />}
      {stage && <Flags stage={stage} />}
      {stage && !nothing && !pairs && <Bearings stage={stage} />}
      {stage && children?.(stage)}
      {v.map && shown.some((s) => s.values) && <Legend />}
      {pairs && (
        <div className="halves">
          <div className="cut" />
          <span className="name stays">{t('stays put')}</span>
          <span className="name moves">{t('moves')}</span>
        </div>
      )}
      {cursor.cursor && (
        <svg className="leaders" aria-hidden="true">
          {['ground', 'cursor'].map((c) => (
            <path key={c} className={c} d="M-20 0H-5M5 0H20M0 -20V-5M0 5V20" transform={`translate(${cursor.cursor?.x} ${cursor.cursor?.y})`} />
          ))}
        </svg>
      )}
      {missed && (
        <svg className="leaders" aria-hidden="true">
          <path className="missed" d="M-6 -6 L6 6 M-6 6 L6 -6" transform={`translate(${missed.x} ${missed.y})`} />
        </svg>
      )}
      <span className="unseen" role="status">
        {missed ? t('There is nothing at that place.') : ''}
      </span>
      {lost && (
        <div className="empty">
          <p className="problem">{t('The graphics card was taken away for a moment. The picture comes back by itself; nothing is lost.')}</p>
        </div>
      )}
      {broken && (
        <div className="empty">
          <p className="problem">
            {t('This browser shows no 3D pictures (WebGL 2 is switched off or missing). Everything else works; another browser shows the stage too.')}
          </p>
        </div>
      )}
      {!nothing && failed && (
        <div className="said" role="alert">
          {t('Some of what should be shown did not arrive. It is still in the database; load the page again.')}
        </div>
      )}
      {!nothing && waiting > 0 && !failed && <div className="said">{t('Loading {{waiting}} of {{shown}}', { waiting, shown: waiting + shown.length })}</div>}
    </>
  )
}
