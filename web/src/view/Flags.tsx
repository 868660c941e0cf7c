import { useEffect, useRef } from 'react'
import { quantity, type Step } from '@oak-gauge/contract'
import { useOpenJob } from '../job/useJob.ts'
import { formatU, formatValue, type Shown, fixed } from '../looks/quantity.ts'
import type { Stage } from './scene.ts'

const signed = (q: Shown) => `${Number(q.value) > 0 ? '+' : Number(q.value) < 0 ? '−' : ''}${formatValue({ ...q, value: Math.abs(Number(q.value)) })}`

const at3 = (f: Step) => f.params['at'] as [number, number, number]

/** Deviations at picked spots, beside the part with a line to their spot. */
export function Flags({ stage }: { stage: Stage }) {
  const { path, stage: at } = useOpenJob()
  const box = useRef<HTMLDivElement>(null)
  const lines = useRef<SVGSVGElement>(null)
  // flags speak of the last deviation; those of an earlier one are out of date
  const since = path.findLastIndex((s) => s.operation === 'deviation')
  const flags = at === 'Inspect' || at === 'Deliver' ? path.slice(since + 1).filter((s) => s.operation === 'flag') : []
  useEffect(() => {
    const move = () => place(stage, flags, box.current, lines.current)
    move()
    return stage.onDraw(move)
  })
  if (!flags.length) return null
  return (
    <>
      <svg className="leaders" ref={lines} aria-hidden="true">
        {flags.map((f) => (
          <g key={f.id}>
            <line stroke="var(--deep)" strokeWidth="1.2" />
            <circle r="4" fill="var(--card)" stroke="var(--deep)" strokeWidth="1.4" />
          </g>
        ))}
      </svg>
      <div ref={box}>
        {flags.map((f, i) => {
          const d = quantity(f, 'deviation')
          return (
            <div className="flag" key={f.id} data-flag={i + 1} title={`x ${fixed(at3(f)[0], 2)}  y ${fixed(at3(f)[1], 2)}  z ${fixed(at3(f)[2], 2)} mm`}>
              <b>{d ? signed(d) : '–'}</b> mm <span className="figure">{typeof d?.u === 'number' ? formatU(d.u) : '± ?'}</span>
              <br />
              {i + 1} {(f.params['label'] as string | undefined) ?? ''} {quantity(f, 'verdict')?.value}
            </div>
          )
        })}
      </div>
    </>
  )
}

/** Left spots get their flag at the left, right ones at the right, below each other in the order of their heights: lines never cross. */
function place(stage: Stage, flags: Step[], box: HTMLDivElement | null, svg: SVGSVGElement | null): void {
  if (!box || !svg) return
  const w = svg.clientWidth
  const h = svg.clientHeight
  const spots = flags.map((f, i) => ({ i, p: stage.project(at3(f)) }))
  for (const side of ['left', 'right'] as const) {
    const mine = spots.filter((s) => s.p && (side === 'left' ? s.p.x < w / 2 : s.p.x >= w / 2)).sort((a, b) => (a.p?.y ?? 0) - (b.p?.y ?? 0))
    let free = side === 'left' ? 130 : 60
    for (const { i, p } of mine) {
      const flag = box.children[i] as HTMLElement
      if (!p) continue
      const y = Math.min(h - 62, Math.max(free, p.y - 70))
      free = y + 50
      const x = side === 'left' ? Math.max(14, Math.min(p.x - 190, 60)) : Math.min(w - flag.offsetWidth - 160, Math.max(p.x + 60, w - flag.offsetWidth - 220))
      flag.style.transform = `translate(${Math.round(x)}px, ${Math.round(y)}px)`
      flag.style.left = '0'
      flag.style.top = '0'
      const [line, dot] = svg.children[i].children
      line.setAttribute('x1', String(p.x))
      line.setAttribute('y1', String(p.y))
      line.setAttribute('x2', String(side === 'left' ? x + flag.offsetWidth : x))
      line.setAttribute('y2', String(y + 20))
      dot.setAttribute('cx', String(p.x))
      dot.setAttribute('cy', String(p.y))
    }
  }
  for (const { i, p } of spots) {
    ;(box.children[i] as HTMLElement).style.visibility = p ? 'visible' : 'hidden'
    ;(svg.children[i] as SVGGElement).style.visibility = p ? 'visible' : 'hidden'
  }
}
