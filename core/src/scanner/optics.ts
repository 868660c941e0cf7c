import { fromRotationVector, multiply } from '../base/mat4.ts'
import { seeded } from '../base/random.ts'
import type { Camera, Stereo } from '../calibrate/camera.ts'

/** What moves the true optics of a stand-in away from what is believed of them. */
export interface OpticsState {
  /** of the scanner itself, °C */
  celsius: number
  /** since it was made */
  days: number
  drops: number
}

const REFERENCE = 20
const DEGREE = Math.PI / 180

/**
 * The true optics of a stand-in: the design with the errors of its making, its lens distortion, what warmth does (focal length and baseline
 * grow, the cameras turn in), a slow walk over the days, and a jump for each time it was dropped. Same seed and state, same optics.
 */
export function trueOptics(design: Stereo, seed: number, state: OpticsState): Stereo {
  const r = seeded(seed)
  const warm = state.celsius - REFERENCE
  const made = (c: Camera): Camera => {
    const f = c.fx * (1 + 0.003 * r.gauss())
    return {
      ...c,
      fx: f,
      fy: f * (1 + 0.0006 * r.gauss()),
      cx: c.cx + 5 * r.gauss(),
      cy: c.cy + 5 * r.gauss(),
      k1: -0.11 + 0.015 * r.gauss(),
      k2: 0.045 + 0.01 * r.gauss(),
      p1: 0.0004 * r.gauss(),
      p2: 0.0004 * r.gauss(),
      k3: 0.005 * r.gauss(),
    }
  }
  const warmed = (c: Camera, side: number): Camera => ({
    ...c,
    fx: c.fx * (1 + 1.2e-5 * warm),
    fy: c.fy * (1 + 1.2e-5 * warm),
    cx: c.cx + 0.012 * side * warm,
    cy: c.cy + 0.006 * warm,
  })
  const left = warmed(made(design.left), 1)
  const right = warmed(made(design.right), -1)
  const turn = [0, 1, 2].map(() => 0.15 * DEGREE * r.gauss())
  const shift = [0, 1, 2].map(() => 0.25 * r.gauss())
  turn[0] += 0.0003 * DEGREE * warm
  turn[1] += 0.0007 * DEGREE * warm
  // the walk: one draw a day, the running day in part
  const walk = seeded(seed ^ 0x51f15)
  for (let d = 0; d < state.days; d++) {
    const part = Math.min(1, state.days - d)
    for (let k = 0; k < 3; k++) turn[k] += 0.0005 * DEGREE * part * walk.gauss()
  }
  const drop = seeded(seed ^ 0x2b0b)
  for (let k = 0; k < state.drops; k++) {
    // at least half of the usual jump: a drop that does nothing teaches nothing
    const jump = () => (0.5 + Math.abs(drop.gauss())) * (drop.next() < 0.5 ? -1 : 1)
    turn[0] += 0.012 * DEGREE * jump()
    turn[1] += 0.03 * DEGREE * jump()
    turn[2] += 0.02 * DEGREE * jump()
    shift[0] += 0.04 * jump()
    right.cx += 0.6 * jump()
    right.cy += 0.3 * jump()
  }
  const pose = multiply(fromRotationVector(turn[0], turn[1], turn[2]), design.pose)
  const grow = 1 + 2.2e-5 * warm
  for (let k = 0; k < 3; k++) pose[4 * k + 3] = (design.pose[4 * k + 3] + shift[k]) * grow
  return { left, right, pose: Array.from(pose) }
}

/** °C of the scanner some seconds after it was switched on; it settles `rise` above the room with the time constant `tau` seconds. */
export const scannerCelsius = (room: number, rise: number, tau: number, seconds: number) => room + rise * (1 - Math.exp(-seconds / tau))
