import { useEffect, useRef, useState, type PointerEvent } from 'react'
import { useOpenJob } from '../../job/useJob.ts'
import { useAppDispatch, useAppSelector } from '../../store.ts'
import type { Stage } from '../../view/scene.ts'
import { mark } from './markSlice.ts'
import { useMarkers, type ShownMarker } from './markers.ts'
import { hiddenFrom, placeBy } from './planner.ts'
import { fixed } from '../../looks/quantity.ts'

/**
 * Markers on top of the stage: a ring for one that is mapped, an open diamond for one that is planned, dashed where it is doubtful, crossed when it moved.
 * In a plan that is being changed they can be dragged. Moved by hand after each drawing: React would be too slow for that.
 */
export function MarkerRings({ stage }: { stage: Stage }) {
  const { state, path, stage: at } = useOpenJob()
  const { draft, selected, judged, adding } = useAppSelector((s) => s.mark)
  const dispatch = useAppDispatch()
  const hidden = useAppSelector((s) => s.view.hidden)
  const visible = (role: 'marker-plan' | 'marker-map') => state.tray.filter((i) => i.role === role && !(hidden[i.slot] ?? at !== 'Mark'))
  const plan = useMarkers(draft ? undefined : visible('marker-plan').at(-1))
  const maps = visible('marker-map')
  const map = useMarkers(maps.at(-1))
  const moved = new Set(
    path.filter((s) => maps.some((m) => m.step === s.id)).flatMap((s) => s.evidence?.quantities.filter((q) => q.id === 'moved-by').map((q) => q.of) ?? []),
  )
  const alike = new Set(judged?.verdict.lookAlikes.flatMap((g) => [...g.one, ...g.other]) ?? [])
  const planned = at === 'Mark' ? (draft ?? plan ?? []) : (plan ?? [])
  const all: { m: Pick<ShownMarker, 'id' | 'at' | 'normal' | 'diameter'>; kind: 'planned' | 'mapped' | 'moved' | 'doubtful' | 'alike' }[] = [
    // a plan steps back when there is a map beside it
    ...planned.map((m, i) => ({ m, kind: alike.has(i) ? ('alike' as const) : ('planned' as const) })),
    ...(map ?? []).map((m) => ({ m, kind: moved.has(m.id) ? ('moved' as const) : m.u > 0.05 ? ('doubtful' as const) : ('mapped' as const) })),
  ]
  const group = useRef<SVGGElement>(null)
  const [dragging, setDragging] = useState<string | null>(null)
  const asked = useRef(false)
  useEffect(() => {
    const move = () => {
      const nodes = group.current?.children ?? []
      const eye = stage.eye()
      all.forEach(({ m }, i) => {
        const node = nodes[i] as SVGGElement | undefined
        if (!node) return
        const p = stage.project(m.at)
        node.setAttribute('transform', p ? `translate(${p.x} ${p.y})` : 'translate(-99 -99)')
        const q = p && stage.project([m.at[0], m.at[1], m.at[2] + m.diameter / 2])
        const r = Math.max(4, p && q ? Math.hypot(q.x - p.x, q.y - p.y) : 4)
        node.firstElementChild?.setAttribute('transform', `scale(${fixed(r / 5, 3)})`)
        node.lastElementChild?.setAttribute('x', String(r + 4))
        node.lastElementChild?.setAttribute('y', String(-0.6 * r - 3))
        const away = m.normal[0] * (eye[0] - m.at[0]) + m.normal[1] * (eye[1] - m.at[1]) + m.normal[2] * (eye[2] - m.at[2]) < 0
        node.classList.toggle('away', away && m.normal.some((v) => v !== 0))
      })
    }
    move()
    // what lies behind the part is asked for when the view rests
    let rest = 0
    const look = () => {
      move()
      window.clearTimeout(rest)
      rest = window.setTimeout(() => {
        void hiddenFrom(
          stage.eye(),
          all.map((a) => a.m.at),
        ).then((list) => list?.forEach((h, i) => group.current?.children[i]?.classList.toggle('behind', h)))
      }, 120)
    }
    look()
    const off = stage.onDraw(look)
    return () => {
      window.clearTimeout(rest)
      off()
    }
  })
  const places = all.map((a) => a.m.at.join()).join(' ')
  useEffect(() => {
    // while one is dragged the picture keeps still
    stage.setBeside(all.map((a) => a.m.at))
    // eslint-disable-next-line react-hooks/exhaustive-deps -- the places are what counts
  }, [stage, places])

  const put = async (e: PointerEvent, id: string | null, diameter: number) => {
    // one question at a time: the newest place counts, those in between do not
    if (asked.current) return
    asked.current = true
    const { origin, direction } = stage.ray(e.clientX, e.clientY)
    const place = await placeBy({ origin, direction, diameter, clearEdge: 25 })
    asked.current = false
    if (!place) return
    dispatch(mark.ground({ clear: place.clear, bend: place.bend }))
    const { at: where, normal, perch } = place
    if (id === null) dispatch(mark.added({ at: where, normal, perch, diameter }))
    else dispatch(mark.moved({ id, at: where, normal, perch }))
  }
  if (!all.length && !adding) return null
  return (
    <svg className={`leaders rings${draft ? ' loose' : ''}${adding ? ' adding' : ''}`} data-markers={all.length}>
      {adding && <rect width="100%" height="100%" fill="transparent" onPointerUp={(e) => void put(e, null, 6)} />}
      <g ref={group}>
        {all.map(({ m, kind }, i) => (
          <g
            key={`${kind === 'planned' || kind === 'alike' ? 'p' : 'm'}${m.id} ${i}`}
            data-marker={m.id}
            data-kind={kind}
            className={map && (kind === 'planned' || kind === 'alike') ? 'quiet' : undefined}
            onPointerDown={(e) => {
              if (!draft) return
              e.stopPropagation()
              e.currentTarget.setPointerCapture(e.pointerId)
              setDragging(m.id)
              dispatch(mark.selected(m.id))
            }}
            onPointerMove={(e) => {
              if (dragging === m.id) void put(e, m.id, m.diameter)
            }}
            onPointerUp={(e) => {
              if (dragging === m.id) void put(e, m.id, m.diameter)
              setDragging(null)
            }}
          >
            <Symbol kind={kind} on={selected === m.id} />
            <text>{m.id}</text>
          </g>
        ))}
      </g>
    </svg>
  )
}

/** Shape before colour; five units in radius. */
function Symbol({ kind, on }: { kind: 'planned' | 'mapped' | 'moved' | 'doubtful' | 'alike'; on: boolean }) {
  return (
    <g className={`ring ${kind}${on ? ' on' : ''}`}>
      <circle r="9" fill="transparent" stroke="none" />
      {kind === 'planned' || kind === 'alike' ? <path d="M0 -6L6 0L0 6L-6 0Z" /> : <circle r="5" />}
      {kind === 'moved' && <path d="M-5 -5L5 5M-5 5L5 -5" />}
      {kind === 'alike' && <path d="M-2 -1.500H2M-2 1.500H2" />}
      {(kind === 'mapped' || kind === 'doubtful') && <circle r="1.200" className="dot" />}
    </g>
  )
}
