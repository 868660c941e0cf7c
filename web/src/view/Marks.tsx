import { useEffect, useRef } from 'react'
import { useAppSelector } from '../store.ts'
import type { Stage } from './scene.ts'

/** Picked places, numbered, on top of the stage. Moved by hand after each drawing: React would be too slow for that. */
export function Marks({ stage }: { stage: Stage }) {
  const places = useAppSelector((s) => s.view.places)
  const pairs = useAppSelector((s) => s.view.pairs)
  const picking = useAppSelector((s) => s.view.picking)
  const group = useRef<SVGGElement>(null)
  const marks: { at: readonly number[]; half: 'left' | 'right'; label: string }[] = [
    ...(picking.kind === 'pairs' ? [] : places.map((p, i) => ({ at: p.at, half: 'left' as const, label: String(i + 1) }))),
    ...(picking.kind === 'pairs'
      ? pairs.flatMap((p, i) => [
          ...(p.anchor ? [{ at: p.anchor.at, half: 'left' as const, label: String(i + 1) }] : []),
          ...(p.loose ? [{ at: p.loose.at, half: 'right' as const, label: String(i + 1) }] : []),
        ])
      : []),
  ]
  useEffect(() => {
    const move = () => {
      const nodes = group.current?.children ?? []
      marks.forEach((m, i) => {
        const p = stage.project(m.at, m.half)
        const node = nodes[i] as SVGGElement | undefined
        node?.setAttribute('transform', p ? `translate(${p.x} ${p.y})` : 'translate(-99 -99)')
      })
    }
    move()
    return stage.onDraw(move)
  })
  if (!marks.length) return null
  return (
    <svg className="leaders" aria-hidden="true">
      <g ref={group}>
        {marks.map((m, i) => (
          <g key={i}>
            <circle r="6.5" fill="none" stroke="var(--card)" strokeWidth="4" />
            <circle r="6.5" fill="none" stroke="var(--slate)" strokeWidth="1.8" />
            <circle r="1.5" fill="var(--slate)" />
            <text x="10" y="-7" fontSize="13" fontWeight="700" fill="var(--slate)" stroke="var(--card)" strokeWidth="3" paintOrder="stroke">
              {m.label}
            </text>
          </g>
        ))}
      </g>
    </svg>
  )
}
