import { fromRotationVector, type Mat4 } from '../base/mat4.ts'
import type { ScannerSpec } from '../scanner/spec.ts'

export interface BarPosition {
  name: string
  /** bar to body (middle between the cameras, z forward), the bar along its own x */
  pose: Mat4
}

/** Direction of the bar, and where between ideal and far its middle is. Seven positions, as VDI/VDE 2634 part 2 asks for at the least. */
const POSITIONS = [
  { name: 'across', direction: [1, 0, 0], depth: 0.05 },
  { name: 'rising to the right', direction: [0.8, -0.6, 0], depth: 0.05 },
  { name: 'falling to the right', direction: [0.8, 0.6, 0], depth: 0.2 },
  { name: 'right end away', direction: [0.9, 0, 0.43], depth: 0.1 },
  { name: 'left end away', direction: [0.9, 0, -0.43], depth: 0.1 },
  { name: 'falling, right end away', direction: [0.85, 0.4, 0.3], depth: 0.3 },
  { name: 'rising, right end away', direction: [0.85, -0.4, 0.3], depth: 0.15 },
] as const

/** Where a ball bar is to be held to try the whole working volume. */
export const barPositions = (range: ScannerSpec['range']): BarPosition[] =>
  POSITIONS.map(({ name, direction, depth }) => ({ name, pose: along(direction, range.ideal + depth * (range.far - range.ideal)) }))

function along(d: readonly [number, number, number], z: number): Mat4 {
  const l = Math.hypot(...d)
  const u = d.map((v) => v / l)
  // turn x onto u, about the axis across both
  const s = Math.hypot(u[1], u[2])
  const k = s > 0 ? Math.atan2(s, u[0]) / s : 0
  return fromRotationVector(0, -u[2] * k, u[1] * k, 0, 0, z)
}
