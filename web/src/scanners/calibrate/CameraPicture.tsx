import { useEffect, useRef, type PointerEvent } from 'react'
import type { HandRequest } from '@oak-gauge/contract'
import type { LiveSide } from './useLive.ts'
import { t } from '../../words/t.ts'

/** What one camera sees, the dots that were found in it, and the ghost of the plate where it is wanted. Of a stand-in the plate can be dragged. */
export function CameraPicture({ side, name, onHand }: { side: LiveSide; name: string; onHand?: ((m: HandRequest) => void) | undefined }) {
  const canvas = useRef<HTMLCanvasElement>(null)
  const from = useRef<{ x: number; y: number } | null>(null)
  useEffect(() => {
    const c = canvas.current
    const g = c?.getContext('2d')
    if (!c || !g) return
    c.width = side.width
    c.height = side.height
    const image = g.createImageData(side.width, side.height)
    for (let i = 0; i < side.grey.length; i++) {
      const v = side.grey[i]
      image.data[4 * i] = image.data[4 * i + 1] = image.data[4 * i + 2] = v
      image.data[4 * i + 3] = 255
    }
    g.putImageData(image, 0, 0)
    g.lineWidth = 1
    g.strokeStyle = '#e9c58c'
    for (let i = 0; i < side.dots.length; i += 2) {
      g.beginPath()
      g.arc(side.dots[i], side.dots[i + 1], 2.2, 0, 7)
      g.stroke()
    }
    const k = side.ghost
    if (k.length >= 8) {
      g.strokeStyle = '#f2e3c4'
      g.lineWidth = 2
      g.setLineDash([7, 5])
      g.beginPath()
      for (let i = 0; i < 4; i++) g.lineTo(k[2 * i], k[2 * i + 1])
      g.closePath()
      g.stroke()
      g.setLineDash([])
      for (let i = 8; i < k.length; i += 2) {
        g.beginPath()
        g.arc(k[i], k[i + 1], 7, 0, 7)
        g.stroke()
      }
    }
  }, [side])
  const move = (e: PointerEvent) => {
    const f = from.current
    if (!f || !onHand || !canvas.current) return
    // a drag across the picture is some 300 mm, or 120 degrees
    const dx = (e.clientX - f.x) / canvas.current.clientWidth
    const dy = (e.clientY - f.y) / canvas.current.clientWidth
    from.current = { x: e.clientX, y: e.clientY }
    onHand(e.shiftKey ? { rightAway: 120 * dx, topAway: -120 * dy } : e.altKey ? { turn: 180 * dx } : { right: 300 * dx, down: 300 * dy })
  }
  return (
    <figure className="camera">
      <canvas
        ref={canvas}
        data-camera={name}
        aria-label={t('What the {{name}} camera sees', { name })}
        className={onHand ? 'onhand' : ''}
        onPointerDown={(e) => {
          from.current = { x: e.clientX, y: e.clientY }
          e.currentTarget.setPointerCapture(e.pointerId)
        }}
        onPointerMove={move}
        onPointerUp={() => (from.current = null)}
        onWheel={(e) => onHand?.({ away: e.deltaY > 0 ? 12 : -12 })}
      />
      <figcaption className="soft">{t('{{name}}, {{dots}} dots', { name, dots: side.dots.length / 2 })}</figcaption>
    </figure>
  )
}
