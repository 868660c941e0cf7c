import { OakError } from '../base/errors.ts'
import { fromRotationVector, multiply, orthonormalise, type Mat4 } from '../base/mat4.ts'
import { cholesky, choleskySolve } from '../base/solve.ts'
import { robustSigma } from '../base/stats.ts'
import { evenSight, turnSymmetric3, type SightModel } from './sight.ts'

/** Which frame saw which marker where. */
export interface Sightings {
  /** number of the frame and of the marker, by sighting */
  frame: Int32Array
  marker: Int32Array
  /** 3 a sighting, scanner coordinates, mm */
  xyz: Float64Array
}

export interface AdjustInput {
  sightings: Sightings
  /** of each frame: map to scanner, a start */
  poses: Mat4[]
  /** 3M mm, a start */
  positions: Float64Array
  sight?: SightModel
  /** residuals beyond so many standard deviations pull with constant force (Huber 1964). Default 2.5 */
  huber?: number
  /** and beyond so many not at all. Default 6 */
  reject?: number
  iterations?: number
}

export interface AdjustResult {
  poses: Mat4[]
  positions: Float64Array
  /** 6M, mm^2, of each marker in a frame of reference that rests on all of them (inner constraints) */
  covariance: Float64Array
  /** standard deviation of a pixel coordinate (of a coordinate in mm for even sight), found from the residuals */
  sigma: number
  /** by sighting: distance between where it was seen and where it belongs, mm */
  residuals: Float64Array
  /** by sighting: the same in standard deviations, for three coordinates */
  normalised: Float64Array
  /** sightings that do not count */
  rejected: number
  iterations: number
  /** mm, rms over the sightings that count */
  rms: number
}

/**
 * All frames and all markers at once, such that what was seen lies nearest to where it belongs, each direction weighted by how well it is seen
 * (Triggs et al. 2000): Gauss-Newton with robust weights, the poses of the frames taken out by the Schur complement. No marker is held: the
 * frame of reference rests on all of them (free network, inner constraints; Meissl 1969, Baarda 1973), so the uncertainty of a marker
 * does not depend on which others were seen first. Throws 'not-determined' when some marker hangs on nothing. Checked against SciPy and NumPy
 * (core/test/fixtures/markers); times in npm run bench, part markers.
 */
export function adjustMarkers(input: AdjustInput): AdjustResult {
  const { sightings: s, sight = evenSight } = input
  const n = s.frame.length
  const count = input.positions.length / 3
  const frames = input.poses.length
  if (n === 0 || count < 3) throw new OakError('too-few-markers', `${count} markers cannot be adjusted.`, { remedy: 'Record at least four markers.' })
  let poses: Mat4[] = input.poses.map((p) => Float64Array.from(p))
  let positions = Float64Array.from(input.positions)
  const info = new Float64Array(6 * n)
  const one = new Float64Array(6)
  for (let i = 0; i < n; i++) {
    sight(s.xyz[3 * i], s.xyz[3 * i + 1], s.xyz[3 * i + 2], one)
    info.set(one, 6 * i)
  }
  const byFrame = groups(s.frame, frames)
  const residual = new Float64Array(3 * n)
  const distance = new Float64Array(n)
  const weights = new Float64Array(n).fill(1)
  let sigma = 0
  let iterations = 0
  const most = input.iterations ?? 12
  for (; iterations < most; iterations++) {
    residuals(s, info, poses, positions, residual, distance)
    sigma = scaleOf(distance)
    weigh(distance, sigma, input.huber ?? 2.5, iterations < 2 ? Infinity : (input.reject ?? 6), weights)
    const step = solveStep(s, info, weights, residual, poses, positions, byFrame)
    let moved = 0
    poses = poses.map((p, f) => nudged(p, step.poses.subarray(6 * f, 6 * f + 6)))
    positions = positions.map((v, i) => v + step.markers[i])
    for (const d of step.markers) moved = Math.max(moved, Math.abs(d))
    if (moved < 1e-6 && iterations > 2) break
  }
  residuals(s, info, poses, positions, residual, distance)
  weigh(distance, scaleOf(distance), input.huber ?? 2.5, input.reject ?? 6, weights)
  // variance of unit weight from what counts, freedoms left after poses and markers
  let sum = 0
  let used = 0
  let ss = 0
  const lengths = new Float64Array(n)
  for (let i = 0; i < n; i++) {
    lengths[i] = Math.hypot(residual[3 * i], residual[3 * i + 1], residual[3 * i + 2])
    if (weights[i] === 0) continue
    used++
    sum += weights[i] * distance[i] ** 2
    ss += lengths[i] ** 2
  }
  const freedom = 3 * used - 6 * frames - 3 * count + 6
  sigma = freedom > 0 ? Math.sqrt(sum / freedom) : sigma
  const covariance = markerCovariance(s, info, weights, poses, positions, byFrame, sigma)
  return {
    poses,
    positions,
    covariance,
    sigma,
    residuals: lengths,
    normalised: distance.map((d) => d / (sigma || 1)),
    rejected: n - used,
    iterations,
    rms: Math.sqrt(ss / Math.max(1, used)),
  }
}

/** Sightings of each frame: CSR. */
function groups(of: Int32Array, count: number): { start: Int32Array; list: Int32Array } {
  const start = new Int32Array(count + 1)
  for (const f of of) start[f + 1]++
  for (let i = 0; i < count; i++) start[i + 1] += start[i]
  const at = start.slice()
  const list = new Int32Array(of.length)
  of.forEach((f, i) => (list[at[f]++] = i))
  return { start, list }
}

/** out: seen minus where it belongs, scanner coordinates, mm; distance: the same weighted by the information, px. */
function residuals(s: Sightings, info: Float64Array, poses: Mat4[], x: Float64Array, out: Float64Array, distance: Float64Array): void {
  for (let i = 0; i < s.frame.length; i++) {
    const m = poses[s.frame[i]]
    const p = 3 * s.marker[i]
    const dx = s.xyz[3 * i] - (m[0] * x[p] + m[1] * x[p + 1] + m[2] * x[p + 2] + m[3])
    const dy = s.xyz[3 * i + 1] - (m[4] * x[p] + m[5] * x[p + 1] + m[6] * x[p + 2] + m[7])
    const dz = s.xyz[3 * i + 2] - (m[8] * x[p] + m[9] * x[p + 1] + m[10] * x[p + 2] + m[11])
    out[3 * i] = dx
    out[3 * i + 1] = dy
    out[3 * i + 2] = dz
    const o = 6 * i
    distance[i] = Math.sqrt(
      Math.max(0, dx * (info[o] * dx + 2 * (info[o + 1] * dy + info[o + 2] * dz)) + dy * (info[o + 3] * dy + 2 * info[o + 4] * dz) + info[o + 5] * dz * dz),
    )
  }
}

/** The length of three normal deviates has its median at 1.538 (chi distribution, three freedoms). */
function scaleOf(distance: Float64Array): number {
  return Math.max(1e-12, (robustSigma(distance) * 0.6745) / 1.538)
}

function weigh(distance: Float64Array, sigma: number, huber: number, reject: number, out: Float64Array): void {
  for (let i = 0; i < out.length; i++) {
    const d = distance[i] / sigma
    out[i] = d > reject ? 0 : d > huber ? huber / d : 1
  }
}

interface Frames {
  start: Int32Array
  list: Int32Array
}

/** Of one frame: factor of its 6x6 block, and 6x3 blocks to its markers, W R and J' W R. */
function frameBlocks(s: Sightings, info: Float64Array, weights: Float64Array, residual: Float64Array | null, pose: Mat4, x: Float64Array, list: Int32Array) {
  const k = list.length
  const v = new Float64Array(36)
  const e = new Float64Array(18 * k)
  const g = new Float64Array(6)
  const gm = new Float64Array(3 * k)
  const u = new Float64Array(6 * k)
  const j = new Float64Array(18)
  const wj = new Float64Array(18)
  const back = Float64Array.of(pose[0], pose[4], pose[8], 0, pose[1], pose[5], pose[9], 0, pose[2], pose[6], pose[10], 0)
  for (let a = 0; a < k; a++) {
    const i = list[a]
    const w = weights[i]
    if (w === 0) continue
    const p = 3 * s.marker[i]
    // turned place: a small turn on the left moves it by turn x place
    const px = pose[0] * x[p] + pose[1] * x[p + 1] + pose[2] * x[p + 2]
    const py = pose[4] * x[p] + pose[5] * x[p + 1] + pose[6] * x[p + 2]
    const pz = pose[8] * x[p] + pose[9] * x[p + 1] + pose[10] * x[p + 2]
    j.fill(0)
    j[1] = pz
    j[2] = -py
    j[6] = -pz
    j[8] = px
    j[12] = py
    j[13] = -px
    j[3] = j[10] = j[17] = 1
    const o = 6 * i
    const m = [w * info[o], w * info[o + 1], w * info[o + 2], w * info[o + 3], w * info[o + 4], w * info[o + 5]]
    for (let c = 0; c < 6; c++) {
      wj[c] = m[0] * j[c] + m[1] * j[6 + c] + m[2] * j[12 + c]
      wj[6 + c] = m[1] * j[c] + m[3] * j[6 + c] + m[4] * j[12 + c]
      wj[12 + c] = m[2] * j[c] + m[4] * j[6 + c] + m[5] * j[12 + c]
    }
    for (let r = 0; r < 6; r++) {
      for (let c = 0; c < 6; c++) v[6 * r + c] += j[r] * wj[c] + j[6 + r] * wj[6 + c] + j[12 + r] * wj[12 + c]
      for (let c = 0; c < 3; c++) e[18 * a + 3 * r + c] = wj[r] * pose[c] + wj[6 + r] * pose[4 + c] + wj[12 + r] * pose[8 + c]
    }
    turnSymmetric3(back, m, u, 0, 6 * a)
    if (residual) {
      const [dx, dy, dz] = [residual[3 * i], residual[3 * i + 1], residual[3 * i + 2]]
      for (let r = 0; r < 6; r++) g[r] += wj[r] * dx + wj[6 + r] * dy + wj[12 + r] * dz
      const hx = m[0] * dx + m[1] * dy + m[2] * dz
      const hy = m[1] * dx + m[3] * dy + m[4] * dz
      const hz = m[2] * dx + m[4] * dy + m[5] * dz
      for (let c = 0; c < 3; c++) gm[3 * a + c] = pose[c] * hx + pose[4 + c] * hy + pose[8 + c] * hz
    }
  }
  // a frame in which nothing counts stays where it is
  for (let r = 0; r < 6; r++) v[7 * r] += 1e-9 + 1e-12 * v[7 * r]
  const factor = cholesky(v, 6)
  if (!factor) throw undetermined()
  return { e, g, gm, u, factor }
}

const undetermined = () =>
  new OakError('not-determined', 'These frames do not tie the markers together.', {
    remedy: 'Record frames that show at least four markers each, with three of them in the frame before as well.',
  })

/** Normal matrix of the markers after the poses have been taken out, with the inner constraints, and its right side. */
function reduced(
  s: Sightings,
  info: Float64Array,
  weights: Float64Array,
  residual: Float64Array | null,
  poses: Mat4[],
  x: Float64Array,
  by: Frames,
  each?: (f: number, list: Int32Array, blocks: ReturnType<typeof frameBlocks>) => void,
) {
  const size = x.length
  const m = new Float64Array(size * size)
  const b = new Float64Array(size)
  for (let f = 0; f < poses.length; f++) {
    const list = by.list.subarray(by.start[f], by.start[f + 1])
    const k = list.length
    if (k === 0) continue
    const blocks = frameBlocks(s, info, weights, residual, poses[f], x, list)
    const { e, u, g, gm, factor } = blocks
    // Y = V^-1 E, column by column of 3k
    const y = new Float64Array(18 * k)
    const column = new Float64Array(6)
    for (let a = 0; a < k; a++)
      for (let c = 0; c < 3; c++) {
        for (let r = 0; r < 6; r++) column[r] = e[18 * a + 3 * r + c]
        const z = choleskySolve(factor, column, 6)
        for (let r = 0; r < 6; r++) y[18 * a + 3 * r + c] = z[r]
      }
    const vg = choleskySolve(factor, g, 6)
    for (let a = 0; a < k; a++) {
      const pa = 3 * s.marker[list[a]]
      const o = 6 * a
      m[pa * size + pa] += u[o]
      m[(pa + 1) * size + pa] += u[o + 1]
      m[(pa + 2) * size + pa] += u[o + 2]
      m[(pa + 1) * size + pa + 1] += u[o + 3]
      m[(pa + 2) * size + pa + 1] += u[o + 4]
      m[(pa + 2) * size + pa + 2] += u[o + 5]
      for (let c = 0; c < 3; c++) {
        let t = gm[3 * a + c]
        for (let r = 0; r < 6; r++) t -= e[18 * a + 3 * r + c] * vg[r]
        b[pa + c] += t
      }
      for (let q = 0; q < k; q++) {
        const pb = 3 * s.marker[list[q]]
        if (pb > pa) continue
        for (let r = 0; r < 3; r++)
          for (let c = 0; c < 3; c++) {
            let t = 0
            for (let d = 0; d < 6; d++) t += e[18 * a + 3 * d + r] * y[18 * q + 3 * d + c]
            m[(pa + r) * size + pb + c] -= t
          }
      }
    }
    each?.(f, list, blocks)
  }
  const { basis, weight } = freedoms(x, m)
  for (let d = 0; d < 6; d++)
    for (let r = 0; r < size; r++) {
      const t = weight * basis[d * size + r]
      for (let c = 0; c <= r; c++) m[r * size + c] += t * basis[d * size + c]
    }
  const factor = cholesky(m, size)
  if (!factor) throw undetermined()
  return { factor, b, basis, weight }
}

/** Orthonormal basis of the six motions of all markers together, which no frame can tell; and a weight of the size of the matrix. */
function freedoms(x: Float64Array, m: Float64Array): { basis: Float64Array; weight: number } {
  const size = x.length
  const mean = [0, 0, 0]
  for (let i = 0; i < size; i++) mean[i % 3] += (3 * x[i]) / size
  const basis = new Float64Array(6 * size)
  for (let p = 0; p < size; p += 3) {
    const [cx, cy, cz] = [x[p] - mean[0], x[p + 1] - mean[1], x[p + 2] - mean[2]]
    for (let k = 0; k < 3; k++) basis[k * size + p + k] = 1
    basis[3 * size + p + 1] = -cz
    basis[3 * size + p + 2] = cy
    basis[4 * size + p] = cz
    basis[4 * size + p + 2] = -cx
    basis[5 * size + p] = -cy
    basis[5 * size + p + 1] = cx
  }
  // Gram-Schmidt, twice is not needed for six well-separated vectors
  for (let d = 0; d < 6; d++) {
    const v = basis.subarray(d * size, (d + 1) * size)
    for (let e = 0; e < d; e++) {
      const w = basis.subarray(e * size, (e + 1) * size)
      let dot = 0
      for (let i = 0; i < size; i++) dot += v[i] * w[i]
      for (let i = 0; i < size; i++) v[i] -= dot * w[i]
    }
    let l = 0
    for (const q of v) l += q * q
    l = Math.sqrt(l)
    if (l < 1e-6) throw undetermined()
    for (let i = 0; i < size; i++) v[i] /= l
  }
  let trace = 0
  for (let i = 0; i < size; i++) trace += m[i * size + i]
  return { basis, weight: trace / size }
}

function solveStep(s: Sightings, info: Float64Array, weights: Float64Array, residual: Float64Array, poses: Mat4[], x: Float64Array, by: Frames) {
  const kept: { list: Int32Array; blocks: ReturnType<typeof frameBlocks> }[] = []
  const r = reduced(s, info, weights, residual, poses, x, by, (f, list, blocks) => (kept[f] = { list, blocks }))
  const markers = choleskySolve(r.factor, r.b, x.length)
  const out = new Float64Array(6 * poses.length)
  kept.forEach(({ list, blocks }, f) => {
    const right = Float64Array.from(blocks.g)
    for (let a = 0; a < list.length; a++) {
      const p = 3 * s.marker[list[a]]
      for (let d = 0; d < 6; d++) for (let c = 0; c < 3; c++) right[d] -= blocks.e[18 * a + 3 * d + c] * markers[p + c]
    }
    out.set(choleskySolve(blocks.factor, right, 6), 6 * f)
  })
  return { markers, poses: out }
}

function markerCovariance(s: Sightings, info: Float64Array, weights: Float64Array, poses: Mat4[], x: Float64Array, by: Frames, sigma: number): Float64Array {
  const { factor, basis, weight } = reduced(s, info, weights, null, poses, x, by)
  const size = x.length
  const inverse = lowerInverse(factor, size)
  const out = new Float64Array(2 * size)
  for (let p = 0, o = 0; p < size; p += 3)
    for (let r = 0; r < 3; r++)
      for (let c = r; c < 3; c++, o++) {
        // (L L')^-1 = L^-T L^-1: columns p + r and p + c of L^-1 from the diagonal down
        let t = 0
        for (let k = p + c; k < size; k++) t += inverse[k * size + p + r] * inverse[k * size + p + c]
        for (let d = 0; d < 6; d++) t -= (basis[d * size + p + r] * basis[d * size + p + c]) / weight
        out[o] = t * sigma * sigma
      }
  return out
}

function lowerInverse(l: Float64Array, n: number): Float64Array {
  const out = new Float64Array(n * n)
  for (let i = 0; i < n; i++) {
    const row = out.subarray(i * n, i * n + n)
    for (let k = 0; k < i; k++) {
      const f = l[i * n + k]
      if (f === 0) continue
      const from = k * n
      for (let c = 0; c <= k; c++) row[c] -= f * out[from + c]
    }
    row[i] = 1
    const d = 1 / l[i * n + i]
    for (let c = 0; c <= i; c++) row[c] *= d
  }
  return out
}

/** Turned about the scanner's axes, then shifted. */
function nudged(m: Mat4, d: ArrayLike<number>): Mat4 {
  const r = multiply(fromRotationVector(d[0], d[1], d[2]), m)
  r[3] = m[3] + d[3]
  r[7] = m[7] + d[4]
  r[11] = m[11] + d[5]
  return orthonormalise(r)
}
