import { useEffect, useRef } from 'react'
import type { Stage } from './scene.ts'
import { t } from '../words/t.ts'

/** Widest bar, px. */
const WIDEST = 130
const ARM = 20

/** Length of the longest bar of 1, 2 or 5 times a power of ten that fits, mm. */
export function barLength(mmPerPixel: number, widest = WIDEST): number {
  const most = mmPerPixel * widest
  const ten = 10 ** Math.floor(Math.log10(most))
  return [5, 2, 1].map((k) => k * ten).find((v) => v <= most * (1 + 1e-9)) ?? ten
}
const inWords = (mm: number) => (mm >= 1000 ? `${mm / 1000} m` : mm >= 0.1 ? `${Number(mm.toPrecision(1))} mm` : `${Number((1000 * mm).toPrecision(1))} µm`)

/** How large and how turned what one sees is: a bar of so many mm at the place one turns about, and the axes of the job. Moved by hand after each drawing. */
export function Bearings({ stage }: { stage: Stage }) {
  const root = useRef<HTMLDivElement>(null)
  useEffect(() => {
    const move = () => {
      const el = root.current
      if (!el) return
      const { mmPerPixel, axes } = stage.bearings()
      const length = barLength(mmPerPixel)
      el.querySelector<HTMLElement>('.scalebar i')?.style.setProperty('width', `${length / mmPerPixel}px`)
      const words = el.querySelector('.scalebar span')
      if (words) words.textContent = inWords(length)
      el.dataset['scale'] = String(length)
      axes.forEach(([x, y, depth], k) => {
        const g = el.querySelectorAll('.axes g')[k]
        g.querySelector('line')?.setAttribute('x2', String(ARM * x))
        g.querySelector('line')?.setAttribute('y2', String(-ARM * y))
        const long = Math.hypot(x, y)
        // the letter of an axis that comes straight at one stands beside the middle
        const out = long > 0.12 ? (ARM + 8) / ARM : 0
        g.querySelector('text')?.setAttribute('x', String(out ? ARM * x * out : 9))
        g.querySelector('text')?.setAttribute('y', String(out ? -ARM * y * out : -9))
        // away from whoever looks: dashed
        g.classList.toggle('away', depth < -1e-6)
      })
    }
    move()
    return stage.onDraw(move)
  }, [stage])
  return (
    <div className="bearings" ref={root} aria-hidden="true">
      <svg className="axes" viewBox="-32 -32 64 64" width="64" height="64">
        {['x', 'y', 'z'].map((name) => (
          <g key={name}>
            <line x1="0" y1="0" x2="0" y2="0" />
            <text>{name}</text>
          </g>
        ))}
        <circle r="2" />
      </svg>
      <div className="scalebar" title={t('at the place one turns about')}>
        <span />
        <i />
      </div>
    </div>
  )
}
