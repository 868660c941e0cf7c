import { useEffect, useState, type KeyboardEvent } from 'react'
import type { Stage } from './scene.ts'
import type { Picking } from './viewSlice.ts'

interface At {
  x: number
  y: number
}
interface Does {
  pick(p: At): void
  /** turns about the place from now on */
  pivot(p: At): void
  /** a loop of corners, x y x y */
  loop(corners: number[], remove: boolean): void
}

/** px by one press, and with Shift; degrees that the view turns by one press */
const STEP = 4
const LEAP = 40
const TURN = 7.5
const ARROWS: Record<string, [number, number]> = { ArrowLeft: [-1, 0], ArrowRight: [1, 0], ArrowUp: [0, -1], ArrowDown: [0, 1] }

/**
 * The view by the keyboard: arrows turn it, plus and minus come nearer. While something is to be picked they move a cursor, and Enter picks; of a loop it sets
 * a corner, and Enter at the same place once more closes it.
 */
export function useCursor(stage: Stage | null, picking: Picking, does: Does) {
  const [cursor, setCursor] = useState<At | null>(null)
  const [corners, setCorners] = useState<number[]>([])
  useEffect(() => {
    setCursor(null)
    setCorners([])
  }, [picking.kind])

  const onKeyDown = (e: KeyboardEvent<HTMLCanvasElement>) => {
    if (!stage || e.ctrlKey || e.metaKey) return
    const { clientWidth: w, clientHeight: h } = e.currentTarget
    const arrow = ARROWS[e.key] as [number, number] | undefined
    const at = cursor ?? { x: w / 2, y: h / 2 }
    if (arrow && picking.kind === 'none') stage.turn(TURN * arrow[0], TURN * arrow[1])
    else if (arrow) {
      const by = e.shiftKey ? LEAP : STEP
      const move = (v: number, d: number, most: number) => Math.max(0, Math.min(most, v + d * by))
      setCursor(cursor ? { x: move(at.x, arrow[0], w), y: move(at.y, arrow[1], h) } : at)
    } else if (e.key === '+' || e.key === '-') stage.nearer(e.key === '+' ? 1.15 : 1 / 1.15)
    else if (e.key === 'Escape') {
      setCursor(null)
      setCorners([])
    } else if (e.key === 'Enter') {
      if (picking.kind === 'none') does.pivot(at)
      else if (picking.kind !== 'lasso') does.pick(at)
      else {
        const [x, y] = corners.slice(-2)
        if (x !== at.x || y !== at.y) setCorners([...corners, at.x, at.y])
        else if (corners.length >= 6) {
          does.loop(corners, e.altKey)
          setCorners([])
        }
      }
      if (picking.kind !== 'none' && !cursor) setCursor(at)
    } else return
    e.preventDefault()
    e.stopPropagation()
  }
  return { cursor: picking.kind === 'none' ? null : cursor, corners, onKeyDown, hide: () => setCursor(null) }
}
