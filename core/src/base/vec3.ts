/** Vectors of three numbers, for what is done some thousand times; inner loops keep theirs in flat arrays. */
export type Vec3 = [number, number, number]
type V = ArrayLike<number>

export const minus = (a: V, b: V): Vec3 => [a[0] - b[0], a[1] - b[1], a[2] - b[2]]
export const dot = (a: V, b: V): number => a[0] * b[0] + a[1] * b[1] + a[2] * b[2]
export const cross = (a: V, b: V): Vec3 => [a[1] * b[2] - a[2] * b[1], a[2] * b[0] - a[0] * b[2], a[0] * b[1] - a[1] * b[0]]
export const length = (a: V): number => Math.sqrt(dot(a, a))
/** Of length 1; (0, 0, 0) stays what it is. */
export const unit = (a: V): Vec3 => {
  const l = length(a) || 1
  return [a[0] / l, a[1] / l, a[2] / l]
}
