import type { Mat4 } from '../base/mat4.ts'
import { cholesky, choleskySolve } from '../base/solve.ts'
import { averaged, brightness } from './brightness.ts'
import { clear, feign, mirror, ROW, type Says } from './motions.ts'
import { PATCH } from './patch.ts'
import { slopes } from './slopes.ts'
import { growingSurface } from './surface.ts'

/** its cubes, in those of the surface: one frame is to show several points in each */
const COARSER = 2
/** more points of a cube than so many count as that many */
const MANY = 20
/** the fit around a cube is made anew when it holds so many times the points it held then */
const STALE = 1.6
/** cubes that tell how brightness changes around one, at least, and up to how many away where little was seen yet */
const AROUND = 9
const FURTHEST = 3
/**
 * Noise is what is left where the print is most even: the first quartile of what planes leave, which changes by so much with each; and what that is of the mean where
 * there is noise alone. Rims leave more, and that is no noise of their slope. Tried: it was, and the more frames were known the less they held the next.
 */
const QUARTILE = 0.25
const LEARNS = 0.02
const EVEN = 0.57
/** points of a frame that are asked how bright they are, at the most */
const ASKED = 12000
/** how far what noise feigns may lie above its mean: on a blank sheet nothing is to be told */
const FEIGNED = 1.2
/** least deviation of a brightness (its logarithm): light is never as even as one thinks */
const LEAST = 0.02
/** places that must be known before a frame's own light is told by them */
const ENOUGH = 60
/** rounds in which what does not belong loses its weight, and its scale in deviations */
const ROUNDS = 4
const WIDE = 3
/** what holds light that falls off where a view is too narrow to tell, in shares of what is told of its middle */
const LOOSE = 1e-6

/**
 * Numbers of a fit: brightness at the middle of a cube's points, its change along x y z (1 / mm), the variance of a point, 0 where there is none; x y z of that middle;
 * the variance of the change along each direction, and the normal.
 */
const FIT = 12

/**
 * What is printed on a growing surface: how bright it is from cube to cube of its own, and how that changes along it. Brightness is the logarithm of a level, less what
 * distance takes of it; each frame has light of its own, which may fall off across its view (three numbers), so neither exposure nor slant say anything. A
 * motion along a flat sheet shows in it as a motion across the sheet shows in the points (Park, Zhou and Koltun 2017, with the light of each frame unknown).
 * Changes are known no better than their noise, and what that feigns is told (errors in variables; Fuller 1987). Memory: 68 bytes a cube of the surface. Measured: docs/methods.md.
 */
export function growingPrint(spacing: number, noise: number) {
  const surface = growingSurface(COARSER * spacing, noise)
  let frame = 0
  /** of brightness where it is even */
  let noise2 = LEAST ** 2
  let room = 1 << 14
  /** points, sum and sum of squares of their brightness */
  let sums = new Float32Array(3 * room)
  let fits = new Float32Array(FIT * room)
  let then = new Float32Array(room)
  const patch = new Float64Array(PATCH)
  const own = new Float32Array(6)
  const other = new Float32Array(6)
  const light = new Float64Array(3)
  let scratch = new Float64Array(0)
  let cubes = new Int32Array(0)
  const across = new Float64Array(6)
  const plane = slopes()

  const grow = (k: number) => {
    if (k < room) return
    while (k >= room) room *= 2
    const longer = (a: Float32Array, n: number) => {
      const l = new Float32Array(n)
      l.set(a)
      return l
    }
    sums = longer(sums, 3 * room)
    fits = longer(fits, FIT * room)
    then = longer(then, room)
  }
  const known = (k: number) => k >= 0 && k < room && sums[3 * k] > 0

  /** The plane of brightness through a cube and those around it that are seen from the same side. */
  const fit = (k: number): boolean => {
    if (!known(k)) return false
    const o = FIT * k
    if (sums[3 * k] < STALE * then[k]) return fits[o + 4] > 0
    then[k] = sums[3 * k]
    fits[o + 4] = 0
    surface.middleOf(k, own, 0)
    const [x, y, z, vx, vy, vz] = own
    if (!surface.patchAt(x, y, z, vx, vy, vz, patch)) return false
    const [nx, ny, nz] = [patch[3], patch[4], patch[5]]
    // along the plane
    const l = Math.hypot(nx, ny) || 1
    const [ax, ay, az] = Math.abs(nz) < 0.9 ? [-ny / l, nx / l, 0] : [0, nz / Math.hypot(ny, nz), -ny / Math.hypot(ny, nz)]
    const [bx, by, bz] = [ny * az - nz * ay, nz * ax - nx * az, nx * ay - ny * ax]
    let [count, squares, within] = [0, 0, 0]
    for (let reach = 1; reach <= FURTHEST && count < AROUND; reach++) {
      plane.clear()
      count = squares = within = 0
      for (let i = -reach; i <= reach; i++)
        for (let j = -reach; j <= reach; j++)
          for (let m = -reach; m <= reach; m++) {
            const c = i || j || m ? surface.cubeAt(x + i * surface.side, y + j * surface.side, z + m * surface.side, vx, vy, vz) : k
            if (!known(c)) continue
            surface.middleOf(c, other, 0)
            const [dx, dy, dz] = [other[0] - x, other[1] - y, other[2] - z]
            const n = sums[3 * c]
            const w = Math.min(n, MANY)
            const b = sums[3 * c + 1] / n
            plane.add(w, dx * ax + dy * ay + dz * az, dx * bx + dy * by + dz * bz, b)
            squares += w * b * b
            within += w * Math.max(0, sums[3 * c + 2] / n - b * b)
            count++
          }
    }
    if (count < AROUND) return false
    const s = plane.solve()
    if (!s) return false
    const points = plane.weight()
    // what cubes leave of the plane, however many points they hold, and points of their cube
    const left = (Math.max(0, squares - s.explained) / points) * (count / (count - 3))
    noise2 *= left > noise2 ? 1 + QUARTILE * LEARNS : 1 - (1 - QUARTILE) * LEARNS
    const own2 = LEAST ** 2 + within / points
    const variance = own2 + left
    fits[o] = s.value
    fits[o + 1] = s.u * ax + s.v * bx
    fits[o + 2] = s.u * ay + s.v * by
    fits[o + 3] = s.u * az + s.v * bz
    fits[o + 4] = variance
    fits[o + 5] = x
    fits[o + 6] = y
    fits[o + 7] = z
    fits[o + 8] = s.variance * (own2 + noise2 / EVEN)
    fits[o + 9] = nx
    fits[o + 10] = ny
    fits[o + 11] = nz
    return true
  }

  /** of the newest frame that was asked for: what its points show, averaged as the surface is */
  let even: { xyz: Float32Array; levels: Uint8Array; values: Float32Array } | undefined
  const evened = (xyz: Float32Array, levels: Uint8Array): Float32Array => {
    if (even?.xyz !== xyz || even.levels !== levels) even = { xyz, levels, values: averaged(xyz, levels, surface.side) }
    return even.values
  }

  /**
   * The light of a frame: three numbers by which what it saw is darker than what is known, at the middle of its view and across it, into `light`. rows: five
   * numbers each: difference, x / z, y / z, its scale, its weight 1 / variance.
   */
  const lightOf = (rows: Float64Array, count: number): void => {
    // most of it, whatever else there is
    light.fill(0)
    const some = Math.max(1, Math.floor(count / 500))
    const first: number[] = []
    for (let i = 0; i < count; i += some) first.push(rows[5 * i])
    light[0] = first.sort((a, b) => a - b)[first.length >> 1] ?? 0
    for (let round = 0; round < ROUNDS; round++) {
      plane.clear()
      for (let i = 0; i < 5 * count; i += 5) {
        const e = rows[i] - light[0] - light[1] * rows[i + 1] - light[2] * rows[i + 2]
        const q = e / rows[i + 3]
        plane.add(rows[i + 4] / (1 + q * q) ** 2, rows[i + 1], rows[i + 2], rows[i])
      }
      // across a narrow view nothing is told
      const s = plane.solve(LOOSE)
      if (!s) return
      light[0] = s.value
      light[1] = s.u
      light[2] = s.v
    }
  }

  /** Adds a frame where it lies, or takes it out again (by: 1, -1). levels: N, 0..255 */
  const addFrame = (xyz: Float32Array, levels: Uint8Array, p: Mat4, by: 1 | -1 = 1): void => {
    const n = xyz.length / 3
    if (scratch.length < 5 * n) scratch = new Float64Array(5 * n)
    let count = 0
    for (let i = 0; i < n; i++) {
      const a = xyz[3 * i]
      const b = xyz[3 * i + 1]
      const c = xyz[3 * i + 2]
      const s = brightness(levels[i], a, b, c)
      if (Number.isNaN(s)) continue
      const x = p[0] * a + p[1] * b + p[2] * c + p[3]
      const y = p[4] * a + p[5] * b + p[6] * c + p[7]
      const z = p[8] * a + p[9] * b + p[10] * c + p[11]
      const k = surface.cubeAt(x, y, z, p[3] - x, p[7] - y, p[11] - z)
      if (!known(k)) continue
      const m = sums[3 * k]
      const mean = sums[3 * k + 1] / m
      const variance = LEAST ** 2 + Math.max(0, sums[3 * k + 2] / m - mean * mean) * (1 + 1 / m)
      const o = 5 * count++
      scratch[o] = mean - s
      scratch[o + 1] = a / c
      scratch[o + 2] = b / c
      scratch[o + 3] = WIDE * Math.sqrt(variance)
      scratch[o + 4] = 1 / variance
    }
    light.fill(0)
    if (count >= ENOUGH) lightOf(scratch, count)
    frame++
    for (let i = 0; i < n; i++) {
      const a = xyz[3 * i]
      const b = xyz[3 * i + 1]
      const c = xyz[3 * i + 2]
      const s = brightness(levels[i], a, b, c) + light[0] + (light[1] * a + light[2] * b) / c
      if (Number.isNaN(s)) continue
      const x = p[0] * a + p[1] * b + p[2] * c + p[3]
      const y = p[4] * a + p[5] * b + p[6] * c + p[7]
      const z = p[8] * a + p[9] * b + p[10] * c + p[11]
      const [vx, vy, vz] = [p[3] - x, p[7] - y, p[11] - z]
      const l = 1 / Math.hypot(vx, vy, vz)
      if (by < 0) surface.take(x, y, z, vx * l, vy * l, vz * l, frame)
      const k = by > 0 ? surface.add(x, y, z, vx * l, vy * l, vz * l, frame) : surface.cubeAt(x, y, z, vx, vy, vz)
      if (k < 0) continue
      grow(k)
      sums[3 * k] += by
      sums[3 * k + 1] += by * s
      sums[3 * k + 2] += by * s * s
      if (by < 0) then[k] = 0
    }
  }

  return {
    addFrame,
    /**
     * What every step-th point says of a frame's motions by how bright it is: added to h, feigned (6 x 6, lower triangle) and g, and to rows as of shape (motions.ts), each in
     * mm along the change. Gives how many rows there are then. middle, lever: what turns are about; gate: as of shape, mm
     */
    says(xyz: Float32Array, levels: Uint8Array, p: Mat4, step: number, gate: number, middle: readonly number[], lever: number, out: Says): void {
      clear(out)
      const { h, g, feigned } = out
      const n = xyz.length / 3
      const values = evened(xyz, levels)
      const every = step * Math.max(1, Math.ceil(n / step / ASKED))
      if (scratch.length < 5 * n) scratch = new Float64Array(5 * n)
      if (cubes.length < n) cubes = new Int32Array(n)
      if (out.rows.length < ROW * n) out.rows = new Float64Array(ROW * n)
      const { rows } = out
      let count = 0
      for (let i = 0; i < n; i += every) {
        const a = xyz[3 * i]
        const b = xyz[3 * i + 1]
        const c = xyz[3 * i + 2]
        const s = values[i]
        if (Number.isNaN(s)) continue
        const x = p[0] * a + p[1] * b + p[2] * c + p[3]
        const y = p[4] * a + p[5] * b + p[6] * c + p[7]
        const z = p[8] * a + p[9] * b + p[10] * c + p[11]
        const k = surface.cubeAt(x, y, z, p[3] - x, p[7] - y, p[11] - z)
        if (k < 0 || !fit(k)) continue
        const o = FIT * k
        const gx = fits[o + 1]
        const gy = fits[o + 2]
        const gz = fits[o + 3]
        const e = fits[o] + gx * (x - fits[o + 5]) + gy * (y - fits[o + 6]) + gz * (z - fits[o + 7]) - s
        const slope = Math.sqrt(gx * gx + gy * gy + gz * gz)
        if (!(slope > 0)) continue
        const [px, py, pz] = [(x - middle[0]) / lever, (y - middle[1]) / lever, (z - middle[2]) / lever]
        const r = ROW * count
        cubes[count] = k
        rows[r] = (py * gz - pz * gy) / slope
        rows[r + 1] = (pz * gx - px * gz) / slope
        rows[r + 2] = (px * gy - py * gx) / slope
        rows[r + 3] = gx / slope
        rows[r + 4] = gy / slope
        rows[r + 5] = gz / slope
        rows[r + 6] = slope
        const variance = fits[o + 4]
        rows[r + 7] = (slope * slope) / variance
        const q = 5 * count++
        scratch[q] = e
        scratch[q + 1] = a / c
        scratch[q + 2] = b / c
        scratch[q + 3] = Math.max(gate * slope, WIDE * Math.sqrt(variance))
        scratch[q + 4] = 1 / variance
      }
      if (count < ENOUGH) return
      out.count = count
      lightOf(scratch, count)
      const ha = new Float64Array(18)
      const aa = new Float64Array(9)
      const ga = new Float64Array(3)
      for (let i = 0; i < count; i++) {
        const r = ROW * i
        const s = 5 * i
        const slope = rows[r + 6]
        const [u, v] = [scratch[s + 1], scratch[s + 2]]
        const off = scratch[s] - light[0] - light[1] * u - light[2] * v
        const q = off / scratch[s + 3]
        const w = Math.abs(q) > 3 ? 0 : rows[r + 7] / (1 + q * q) ** 2
        const e = off / slope
        rows[r + 6] = w
        rows[r + 8] = e
        if (w === 0) continue
        const o = FIT * cubes[i]
        const [x, y, z] = [(fits[o + 5] - middle[0]) / lever, (fits[o + 6] - middle[1]) / lever, (fits[o + 7] - middle[2]) / lever]
        const [nx, ny, nz] = [fits[o + 9], fits[o + 10], fits[o + 11]]
        across[0] = y * nz - z * ny
        across[1] = z * nx - x * nz
        across[2] = x * ny - y * nx
        across[3] = nx
        across[4] = ny
        across[5] = nz
        feign(x, y, z, nx, ny, nz, across, (FEIGNED * w * fits[o + 8]) / (slope * slope), feigned)
        const b = [-1 / slope, -u / slope, -v / slope]
        for (let j = 0; j < 6; j++) {
          g[j] += w * rows[r + j] * e
          for (let m = 0; m <= j; m++) h[6 * j + m] += w * rows[r + j] * rows[r + m]
          for (let m = 0; m < 3; m++) ha[3 * j + m] += w * rows[r + j] * b[m]
        }
        for (let j = 0; j < 3; j++) {
          ga[j] += w * b[j] * e
          for (let m = 0; m <= j; m++) aa[3 * j + m] += w * b[j] * b[m]
        }
      }
      // the light is free to change: what it could explain says nothing of a motion
      for (const d of [4, 8]) aa[d] += LOOSE * aa[0] + 1e-12
      const f = aa[0] > 0 ? cholesky(aa, 3) : null
      if (!f) return mirror(out)
      const lit = choleskySolve(f, ga, 3)
      for (let j = 0; j < 6; j++) {
        const col = choleskySolve(f, ha.subarray(3 * j, 3 * j + 3), 3)
        for (let m = 0; m < 3; m++) g[j] -= ha[3 * j + m] * lit[m]
        for (let m = 0; m <= j; m++) for (let c = 0; c < 3; c++) h[6 * j + m] -= col[c] * ha[3 * m + c]
      }
      mirror(out)
    },
  }
}
export type GrowingPrint = ReturnType<typeof growingPrint>
