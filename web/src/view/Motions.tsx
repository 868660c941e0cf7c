import { useEffect, useMemo, useRef } from 'react'
import { motionWords } from '@oak-gauge/core/align/freemotion.ts'
import { cross, unit } from '@oak-gauge/core/base/vec3.ts'
import { useAppSelector } from '../store.ts'
import type { Stage } from './scene.ts'
import type { ViewState } from './viewSlice.ts'
import { fixed } from '../looks/quantity.ts'
import { t } from '../words/t.ts'

/** Share of its reach that an arrow is long, to each side. */
const LONG = 0.55
/** Radius of the arc of a turn, as a share of the reach; degrees of it. */
const ROUND = 0.4
const ARC = 250

/** Places along a motion's arrow, in the job: straight for a slide, an arc about the axis for a turn, a coil for a screw. */
export function arrowOf(m: ViewState['motions'][number]): number[][] {
  const at = (k: number) => m.through.map((v, c) => v + k * m.axis[c])
  if (m.kind === 'slide') return [at(-LONG * m.size), at(0), at(LONG * m.size)]
  const side = unit(cross([...m.axis], Math.abs(m.axis[2]) < 0.9 ? [0, 0, 1] : [1, 0, 0]))
  const other = cross([...m.axis], side)
  const r = ROUND * m.size
  const rise = m.kind === 'screw' ? 0.5 * r : 0
  const steps = 28
  return Array.from({ length: steps + 1 }, (_, i) => {
    const a = (ARC * (i / steps - 0.5) * Math.PI) / 180
    const middle = at(rise * (2 * (i / steps) - 1))
    return middle.map((v, c) => v + r * (Math.cos(a) * side[c] + Math.sin(a) * other[c]))
  })
}

/** Motions that nothing holds, as arrows with two heads on top of the stage. Moved by hand after each drawing, as marks are. */
export function Motions({ stage }: { stage: Stage }) {
  const motions = useAppSelector((s) => s.view.motions)
  const group = useRef<SVGGElement>(null)
  const paths = useMemo(() => motions.map(arrowOf), [motions])
  useEffect(() => {
    const move = () => {
      const nodes = group.current?.children ?? []
      paths.forEach((places, i) => {
        const node = nodes[i] as SVGGElement | undefined
        const on = places.map((p) => stage.project(p))
        const whole = on.every((p) => p !== null) ? on : []
        const d = whole.map((p, k) => `${k ? 'L' : 'M'}${fixed(p.x, 1)} ${fixed(p.y, 1)}`).join('')
        node?.querySelectorAll('path').forEach((path) => path.setAttribute('d', d))
        const end = whole.at(-1)
        node?.querySelector('text')?.setAttribute('transform', end ? `translate(${end.x + 10} ${end.y + 4 + 15 * (i % 2)})` : 'translate(-999 -999)')
      })
    }
    move()
    return stage.onDraw(move)
  }, [paths, stage])
  if (!motions.length) return null
  return (
    <svg className="leaders" aria-label={t('Motions that nothing holds')}>
      <defs>
        <marker id="motion-end" viewBox="0 0 10 10" refX="7" refY="5" markerWidth="5" markerHeight="5" orient="auto-start-reverse">
          <path d="M0 0L10 5L0 10z" fill="var(--slate)" />
        </marker>
      </defs>
      <g ref={group}>
        {motions.map((m, i) => (
          <g key={i} data-motion={motionWords(m)}>
            <path fill="none" stroke="var(--card)" strokeWidth="6" strokeLinecap="round" />
            <path fill="none" stroke="var(--slate)" strokeWidth="2.4" markerStart="url(#motion-end)" markerEnd="url(#motion-end)" />
            <text fontSize="13" fontWeight="700" fill="var(--slate)" stroke="var(--card)" strokeWidth="3.5" paintOrder="stroke">
              {motionWords(m)}
            </text>
          </g>
        ))}
      </g>
    </svg>
  )
}
