import { jacobiEigen } from '../base/eigen.ts'
import type { PoseUncertainty } from '../uncertainty/pose.ts'

/** Of a pass whose frames hold one another: the stretch that is known least in itself. */
export interface Stretch {
  /** mm between the middles of its ends */
  over: number
  /** along which they are known least, a unit vector in the axes of the pass; and how well, mm (1 sigma) */
  axis: [number, number, number]
  sigma: number
  /** that leads from one end to the other: it may be too short or too long. Else one end may have slid aside */
  lengthwise: boolean
}

/** cosine between the axis and the way from one end to the other */
const ALONG = 0.8

/** Of a piece against the mean of all: the covariance of a shift at its middle (3 x 3, mm2), with what a turn about elsewhere adds there (JCGM 100:2008, 5.2.2). */
function atMiddle({ pose, middle }: { pose: PoseUncertainty; middle: readonly number[] }): Float64Array | undefined {
  const c = pose.covariance
  if (!c || pose.free?.length) return undefined
  const [x, y, z] = middle.map((v, k) => v - pose.about[k])
  const rows = [
    [0, z, -y, 1, 0, 0],
    [-z, 0, x, 0, 1, 0],
    [y, -x, 0, 0, 0, 1],
  ]
  const here = new Float64Array(9)
  rows.forEach((a, i) => rows.forEach((b, j) => a.forEach((v, r) => b.forEach((w, s) => (here[3 * i + j] += v * w * c[6 * r + s])))))
  return here
}

/**
 * Where a recording may have shrunk or slid: of its pieces, adjusted together, the one that is known least against the mean of all, along the direction in which it is, and
 * the one farthest from it. What either is off by against the mean goes opposite ways, so both add up. Along flat stretches a frame is held by little, and each leans on
 * those before. pieces: pose, and the middle of what each shows, mm. Undefined where fewer than two are known. Measured: core/test/stretch.test.ts, docs/methods.md.
 */
export function leastKnownStretch(pieces: readonly { pose: PoseUncertainty; middle: readonly number[] }[]): Stretch | undefined {
  const known = pieces.flatMap((p) => {
    const covariance = atMiddle(p)
    if (!covariance) return []
    const { values, vectors } = jacobiEigen(covariance, 3)
    const k = values.indexOf(Math.max(...values))
    return [{ middle: p.middle, covariance, variance: values[k], axis: [vectors[k], vectors[3 + k], vectors[6 + k]] as [number, number, number] }]
  })
  if (known.length < 2) return undefined
  const one = known.reduce((a, b) => (b.variance > a.variance ? b : a))
  const other = known.reduce((a, b) => (apart(b.middle, one.middle) > apart(a.middle, one.middle) ? b : a))
  const over = apart(one.middle, other.middle)
  if (!(over > 0)) return undefined
  const { axis } = one
  const along = (c: Float64Array) =>
    Math.sqrt(
      Math.max(
        0,
        axis.reduce((s, u, i) => s + axis.reduce((t, v, j) => t + u * v * c[3 * i + j], 0), 0),
      ),
    )
  const way = other.middle.reduce((s, v, i) => s + (v - one.middle[i]) * axis[i], 0)
  return { over, axis, sigma: along(one.covariance) + along(other.covariance), lengthwise: Math.abs(way) > ALONG * over }
}

/** mm along a view's width by which a frame creeps, in what is stated of one; and how wide a view is, in typical distances from its middle (of a square) */
const CREEPS = 4
const WIDTH = 2.45

/**
 * The same where nothing but a print holds frames along the surface, which pieces of them do not tell: each leans on those before, and what it is short by adds up
 * from one width of a view to the next. middles: of what the frames show, mm; lever: typical distance of their points from it, mm; sigma: of a frame, mm. Measured:
 * plates with blots of 8 and 16 mm were 2 to 4.5 times sigma off after a width (npm run bench -- printed), panels held by their shape 2 to 4 times.
 */
export function printedStretch(middles: readonly (readonly number[])[], lever: number, sigma: number): Stretch | undefined {
  const farthest = (from: readonly number[]) => middles.reduce((a, b) => (apart(b, from) > apart(a, from) ? b : a))
  if (!middles.length || !Number.isFinite(sigma)) return undefined
  const one = farthest(middles[0])
  const other = farthest(one)
  const over = apart(one, other)
  if (!(over > 0)) return undefined
  const axis = other.map((v, k) => (v - one[k]) / over) as [number, number, number]
  return { over, axis, sigma: (CREEPS * sigma * over) / (WIDTH * lever), lengthwise: true }
}
const apart = (a: readonly number[], b: readonly number[]): number => Math.hypot(a[0] - b[0], a[1] - b[1], a[2] - b[2])
