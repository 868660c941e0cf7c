import { OakError } from '../base/errors.ts'
import { invertRigid, transformPoint } from '../base/mat4.ts'
import type { Mesh } from '../shape/mesh.ts'
import type { Points } from '../shape/points.ts'

export interface FieldPatch {
  mean: number
  /** standard deviation of the values in the patch */
  spread: number
  /** standard deviation of the mean; neighbouring values share their noise, so that only one in nine counts as its own. 'unknown' for a single value */
  standardError: number | 'unknown'
  count: number
}

/**
 * Mean of a field (N values, NaN = none) around a place in job coordinates (mm). Takes the nearest value alone where the
 * patch holds fewer than three. The merge averages each vertex over some three cells, hence the count divided by nine
 * (measured on the bracket: neighbours within three cells correlate by more than 0.5).
 * Throws OakError 'no-value' when there is no value within five radii.
 */
export function fieldAround(values: Float32Array, on: Mesh | Points, pose: ArrayLike<number>, at: ArrayLike<number>, radius: number): FieldPatch {
  const xyz = on.kind === 'mesh' ? on.vertices : on.xyz
  const [x, y, z] = transformPoint(invertRigid(pose), at[0], at[1], at[2])
  const r2 = radius * radius
  let [n, sum, ss] = [0, 0, 0]
  let nearest = Infinity
  let value = NaN
  for (let i = 0; i < values.length; i++) {
    const v = values[i]
    if (v !== v) continue
    const dx = xyz[3 * i] - x
    const dy = xyz[3 * i + 1] - y
    const dz = xyz[3 * i + 2] - z
    const d2 = dx * dx + dy * dy + dz * dz
    if (d2 < nearest) {
      nearest = d2
      value = v
    }
    if (d2 > r2) continue
    n++
    sum += v
    ss += v * v
  }
  if (nearest > 25 * r2)
    throw new OakError('no-value', 'There is no deviation near this spot: it was not measured, or has no nominal.', {
      remedy: 'Pick a spot on coloured surface.',
    })
  if (n < 3) return { mean: value, spread: 0, standardError: 'unknown', count: 1 }
  const mean = sum / n
  const spread = Math.sqrt(Math.max(0, ss / n - mean * mean) * (n / (n - 1)))
  return { mean, spread, standardError: spread / Math.sqrt(Math.max(1, n / 9)), count: n }
}
