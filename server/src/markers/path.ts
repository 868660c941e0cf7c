import { multiply, translation, fromRotationVector, type Mat4 } from '@oak-gauge/core/base/mat4.ts'
import type { handRequest } from '@oak-gauge/contract'
import type { z } from 'zod'

export type HandMove = z.output<typeof handRequest>

/** Moves a scanner the way a hand would, as the scanner sees it: mm and degrees. */
export function movedBody(body: Mat4, m: HandMove): Mat4 {
  const r = Math.PI / 180
  return multiply(body, multiply(translation(m.right, m.down, -m.away), fromRotationVector(m.topAway * r, -m.rightAway * r, m.turn * r)))
}
