import { fromRotationVector, invertRigid, multiply, rotateVector, type Mat4 } from '../base/mat4.ts'

/** Where a scanner that stands beside a turntable would be on the part, the table turned to `turn`, degrees. */
export interface TableView {
  turn: number
  at: [number, number, number]
  looks: [number, number, number]
}

/** degrees between two of them; so near one that was taken there is nothing new */
const EVERY = 7.5
const NEAR = 4

/**
 * All views that a turntable gives, in the axes of the model. placed: a frame that has a place, as it lies and as the scanner said it; said: where it says it is
 * at `turn` degrees; taken: angles of shots that are there already. With growing angle the scanner goes round the table counter-clockwise, seen from above
 * (docs/scanner-link.md).
 */
export function tableViews(placed: { pose: Mat4; at: Mat4 }, said: Mat4, turn: number, taken: readonly number[]): TableView[] {
  const onModel = multiply(placed.pose, invertRigid(placed.at))
  const out: TableView[] = []
  for (let a = 0; a < 360; a += EVERY) {
    if (taken.some((t) => between(t, a) < NEAR)) continue
    const p = multiply(onModel, multiply(fromRotationVector(0, 0, ((a - turn) * Math.PI) / 180), said))
    out.push({ turn: a, at: [p[3], p[7], p[11]], looks: rotateVector(p, 0, 0, 1) })
  }
  return out
}

/** degrees, 0 to 180 */
function between(a: number, b: number): number {
  const d = Math.abs(a - b) % 360
  return Math.min(d, 360 - d)
}
