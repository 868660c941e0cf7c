import { useEffect, useMemo, useRef } from 'react'
import { cross, unit } from '@oak-gauge/core/base/vec3.ts'
import { fixed } from '../../looks/quantity.ts'
import { led, type Held } from '../../view/growing.ts'
import type { Stage } from '../../view/scene.ts'
import { t } from '../../words/t.ts'

/** Of the distance to what it looks at: how much of the way is drawn, and how wide the ring around that is. */
const WAY = 0.35
const WIDE = 0.06
const ROUND = 24
/** what is proposed is drawn smaller: there are several */
const SMALL = 0.5
/** px from the rim of the stage in which nothing can be read */
const EDGE = 24

/** A ring where a scanner looks, and the way from there towards it, as places of the stage. */
function sightOf({ at, looks }: Held, distance: number, size: number): { ring: number[][]; way: number[][] } {
  const spot = at.map((v, k) => v + distance * looks[k])
  const side = unit(cross([...looks], Math.abs(looks[2]) < 0.9 ? [0, 0, 1] : [1, 0, 0]))
  const other = cross([...looks], side)
  const around = (r: number, along: number, i: number) => {
    const a = (2 * Math.PI * i) / ROUND
    return spot.map((v, k) => v - along * looks[k] + r * (Math.cos(a) * side[k] + Math.sin(a) * other[k]))
  }
  return {
    ring: Array.from({ length: ROUND + 1 }, (_, i) => around(size * WIDE * distance, 0, i)),
    way: [spot, spot.map((v, k) => v - size * WAY * distance * looks[k])],
  }
}

/** Where the scanner is led, solid; where it knew its place last, dashed and named; from where it should see next, dotted and numbered. Moved by hand after each drawing, as marks are. */
export function LedScanner({ stage }: { stage: Stage }) {
  const now = led.use()
  const group = useRef<SVGGElement>(null)
  const all = useMemo(() => {
    if (!now) return []
    const list: { kind: 'scanner' | 'ghost' | 'next'; lines: number[][][]; word: string }[] = []
    const add = (kind: 'scanner' | 'ghost' | 'next', held: Held | null, word: string) => {
      if (!held) return
      const { ring, way } = sightOf(held, now.distance, kind === 'next' ? SMALL : 1)
      list.push({ kind, lines: [ring, way], word })
    }
    if (now.ghost) add('ghost', now.ghost, t('lead it back to here'))
    else add('scanner', now.scanner, '')
    now.next.forEach((held, k) => add('next', held, String(k + 1)))
    return list
  }, [now])
  useEffect(() => {
    const move = () => {
      const { width = 0, height = 0 } = group.current?.ownerSVGElement?.getBoundingClientRect() ?? {}
      all.forEach(({ lines }, i) => {
        const node = group.current?.children[i]
        const on = lines.map((l) => l.map((p) => stage.project(p)))
        const d = on
          .filter((l) => l.every((p) => p !== null))
          .map((l) => l.map((p, k) => `${k ? 'L' : 'M'}${fixed(p?.x ?? 0, 1)} ${fixed(p?.y ?? 0, 1)}`).join(''))
          .join('')
        node?.querySelectorAll('path').forEach((path) => path.setAttribute('d', d))
        // a number where one would stand, as long as that is on the stage; a word where it looks
        const [spot, end] = on[1]
        const at = all[i].kind === 'next' && end && end.x > EDGE && end.y > EDGE && end.x < width - EDGE && end.y < height - EDGE ? end : spot
        node?.querySelector('text')?.setAttribute('transform', at ? `translate(${at.x + 10} ${at.y - 8})` : 'translate(-999 -999)')
      })
    }
    move()
    return stage.onDraw(move)
  }, [all, stage])
  if (!all.length) return null
  return (
    <svg className="leaders led">
      <g ref={group}>
        {all.map(({ kind, word }, k) => (
          <g key={k} className={kind} data-led={kind}>
            <path className="under" />
            <path />
            <text>{word}</text>
          </g>
        ))}
      </g>
    </svg>
  )
}
