import { jacobiEigen } from '../base/eigen.ts'
import { identity, type Mat4 } from '../base/mat4.ts'
import { coreBox } from '../shape/points.ts'
import { AGREE, byFew, feign, heldAt, holding, jointStep, moved, nothingSaid, ROW, seek, stepOf, stepTogether, type Held, type HeldThere } from './motions.ts'
import { PATCH } from './patch.ts'
import type { GrowingPrint } from './print.ts'
import { FLAT, type GrowingSurface } from './surface.ts'

export interface ShapeOptions {
  /** noise of a point across its surface, mm */
  noise: number
  /** slopes that the scanner itself feigns (its calibration, what neighbours have in common), rad. Default 0.0005 */
  waviness?: number
  /** how far from the surface a point may lie at first, mm. Default one cube and a half, at least 3 mm */
  gate?: number
  /** points of the frame with which it is led near. Default 1500; then `most` of them count */
  points?: number
  /** Default 16 000: neighbours have most of their error in common, and a frame of a whole table has five times as many */
  most?: number
  /** how often a frame is set off to where more of it agrees. Default 2 */
  seeks?: number
  /** what is printed on the surface: how bright points are counts as well */
  print?: GrowingPrint
  /** what all points of a frame can be off by together, mm: so much a shape is never better than what holds the frame besides. Default 0.02 */
  together?: number
}

export interface ShapePose {
  /** scanner to surface */
  pose: Mat4
  /** shares of the frame's points: surface was found near them; they lie within three deviations of it */
  met: number
  fits: number
  /** rms of those that fit, and the deviation that was expected of them, mm */
  rms: number
  expected: number
  /** six motions as columns (6 x 6, row major): turn about `middle` in units of 1 / lever, and shift, mm; and how well each is known, mm, 1 sigma */
  motions: Float64Array
  sigmas: Float64Array
  middle: [number, number, number]
  /** typical distance of the frame's points from the middle, mm */
  lever: number
}

/** Points that must meet surface. */
const FEWEST = 60
/** how far what noise feigns may lie above its mean */
const FEIGNED = 2
/** scanners see surfaces up to some 72 degrees; cosine squared */
const SLANTING = 0.06
/** a frame that is only compared meets what lies beside it by so many cubes at the most */
const BESIDE = 1
/** rounds with some of the points, and with all. Tried: one with all, a quarter faster: of 24 ways to stop beside a rib and to come back two ended 1.4 and 4.3 mm off and were called steady */
const NEAR = 4
const ALL = 2

/**
 * Lays frames on the surface that has grown so far, point to plane (Chen and Medioni 1991) with the weights of Geman and McClure (1987), from a predicted pose.
 * What a frame says of each motion is what its normals say, less what their own noise feigns: on a flat plate the scatter of the normals alone would hold it
 * against sliding (errors in variables; Fuller 1987). Along motions that it says nothing of it stays where it was predicted.
 * Tried: patches across edges like others (ends of a round of 600 frames 2 mm apart), or with less weight (a frame pulled 0.6 mm aside where a face went out of
 * sight); only 1500 points in all rounds (0.7 mm).
 */
export function shapeTracker(surface: GrowingSurface, o: ShapeOptions) {
  const noise2 = o.noise ** 2
  const wavy = (o.waviness ?? 0.0005) ** 2
  const widest = o.gate ?? Math.max(3, 1.5 * surface.side)
  const patch = new Float64Array(PATCH)
  const h = new Float64Array(36)
  const feigned = new Float64Array(36)
  const printed = nothingSaid()
  let rows = new Float64Array(0)
  const together2 = (o.together ?? 0.02) ** 2
  const g = new Float64Array(6)
  const row = new Float64Array(6)

  const middle: [number, number, number] = [0, 0, 0]
  let lever = 1
  let [met, fits, sum, expected, held] = [0, 0, 0, 0, 0]

  /** What every step-th point says at a pose. more: variance that the pose itself brings, mm2; beside: how far along a patch it still counts, mm */
  const look = (xyz: Float32Array, pose: Mat4, step: number, gate: number, more: number, beside = Infinity, levels?: Uint8Array): void => {
    h.fill(0)
    g.fill(0)
    feigned.fill(0)
    ;[met, fits, sum, expected, held] = [0, 0, 0, 0, 0]
    lever = placed(xyz, step, pose, middle)
    const reach = Math.max(3 * gate, widest)
    if (rows.length < ROW * (xyz.length / 3)) rows = new Float64Array((ROW * xyz.length) / 3)
    for (let i = 0; i < xyz.length; i += 3 * step) {
      const x = pose[0] * xyz[i] + pose[1] * xyz[i + 1] + pose[2] * xyz[i + 2] + pose[3]
      const y = pose[4] * xyz[i] + pose[5] * xyz[i + 1] + pose[6] * xyz[i + 2] + pose[7]
      const z = pose[8] * xyz[i] + pose[9] * xyz[i + 1] + pose[10] * xyz[i + 2] + pose[11]
      const vx = pose[3] - x
      const vy = pose[7] - y
      const vz = pose[11] - z
      if (!surface.patchAt(x, y, z, vx, vy, vz, patch)) continue
      const nx = patch[3]
      const ny = patch[4]
      const nz = patch[5]
      // a face that is not seen from here is not what was measured, however near its edge
      const towards = nx * vx + ny * vy + nz * vz
      if (towards < 0 || towards * towards < SLANTING * (vx * vx + vy * vy + vz * vz)) continue
      const e = (x - patch[0]) * nx + (y - patch[1]) * ny + (z - patch[2]) * nz
      if (e > reach || e < -reach) continue
      if (beside < Infinity && (x - patch[0]) ** 2 + (y - patch[1]) ** 2 + (z - patch[2]) ** 2 - e * e > beside * beside) continue
      const near = e < 3 * gate && e > -3 * gate
      if (near) met++
      const thin = patch[7]
      // noise averages out; what scatters beyond it is shape that the plane does not follow, and its slope is no chance
      const bent = Math.max(0, thin - noise2 * (1 + 2 * Math.sqrt(2 / patch[6])))
      const tilt = (thin / patch[6] + bent) * patch[8] + wavy
      const variance = Math.max(noise2, thin) + thin / patch[6] + tilt * (surface.side / 2) ** 2
      const u = e / gate
      const w = 1 / (1 + u * u) ** 2 / variance
      if (near && e * e < 9 * (variance + more)) {
        fits++
        sum += e * e
        expected += variance + more
      }
      // what is no plane would pull: across an edge it lies wherever more points came from, and that changes with the side one looks from
      if (thin > FLAT * noise2) continue
      // turns in units of the lever, so that all six motions are lengths; about the patch's middle: a point beside it would hold a round part by its facets
      const px = (patch[0] - middle[0]) / lever
      const py = (patch[1] - middle[1]) / lever
      const pz = (patch[2] - middle[2]) / lever
      row[0] = py * nz - pz * ny
      row[1] = pz * nx - px * nz
      row[2] = px * ny - py * nx
      row[3] = nx
      row[4] = ny
      row[5] = nz
      // what lies further off pulls no more, and speaks against what the others say
      rows.set(row, ROW * held)
      rows[ROW * held + 6] = near ? w : 0
      rows[ROW * held + 7] = 1 / variance
      rows[ROW * held++ + 8] = e
      if (!near) continue
      for (let r = 0; r < 6; r++) {
        g[r] += w * row[r] * e
        for (let q = 0; q <= r; q++) h[6 * r + q] += w * row[r] * row[q]
      }
      feign(px, py, pz, nx, ny, nz, row, FEIGNED * w * tilt, feigned)
    }
    if (o.print && levels) o.print.says(xyz, levels, pose, step, gate, middle, lever, printed)
    for (let r = 0; r < 6; r++)
      for (let q = 0; q < r; q++) {
        h[6 * q + r] = h[6 * r + q]
        feigned[6 * q + r] = feigned[6 * r + q]
      }
  }
  /** asked: points that were */
  const told = (pose: Mat4, asked: number, motions: Float64Array, sigmas: Float64Array): ShapePose => ({
    pose,
    met: met / asked,
    fits: fits / asked,
    rms: Math.sqrt(sum / Math.max(1, fits)),
    expected: Math.sqrt(expected / Math.max(1, fits)),
    motions,
    sigmas,
    middle: [...middle],
    lever,
  })

  return {
    /**
     * xyz: 3N mm, scanner coordinates; start: where it is looked for; levels: N, how bright each point is, where what is printed counts as well. by: what holds it
     * besides, which counts with its covariance, along motions of which the shape says nothing alone. Undefined when too little of the frame meets the surface.
     */
    lay(xyz: Float32Array, start: Mat4, by?: Held, levels?: Uint8Array): ShapePose | undefined {
      const n = xyz.length / 3
      if (n < FEWEST) return undefined
      const some = Math.max(1, Math.floor(n / (o.points ?? 1500)))
      const most = Math.ceil(n / (o.most ?? 16_000))
      const asked = Math.ceil(n / most)
      let pose: Mat4 = Float64Array.from(start)
      let known: HeldThere | undefined
      let sought = 0
      const counts = o.print && levels && !by
      for (let round = 0; ; round++) {
        const step = round < NEAR ? some : most
        const at = pose
        look(xyz, pose, step, Math.max(3 * o.noise, widest / 2 ** round), 0, Infinity, levels)
        if (met < FEWEST) return undefined
        if (by) known ??= heldAt(by, pose, middle, lever)
        const last = round === NEAR + ALL - 1
        const says = { h, feigned, g, rows, count: held }
        const both = counts ? stepTogether([says, printed], step, round >= NEAR) : undefined
        const d = both?.step ?? (known ? jointStep(says, step, together2, known, pose, middle) : stepOf(says, round < NEAR))
        pose = moved(pose, d, middle, lever)
        if (last) {
          if (both)
            return told(
              pose,
              asked,
              both.vectors,
              both.values.map((v) => (v > 0 ? 1 / Math.sqrt(v) : Infinity)),
            )
          const aside = !by && sought < (o.seeks ?? 2) && seek(says, 3 * o.noise, widest)
          if (!aside) break
          sought++
          round = NEAR
          // from where it was looked at
          pose = moved(at, aside, middle, lever)
        }
      }
      if (known) {
        // as it stands after the step: all that is said of it
        const { values, vectors } = jacobiEigen(known.joint, 6)
        return told(
          pose,
          asked,
          vectors,
          values.map((v) => (v > 0 ? 1 / Math.sqrt(v) : Infinity)),
        )
      }
      const { values, vectors } = jacobiEigen(
        h.map((v, k) => v - feigned[k]),
        6,
      )
      const { points, agree } = holding(rows, held, vectors)
      return told(
        pose,
        asked,
        vectors,
        values.map((v, k) => (v > 0 && agree[k] >= AGREE ? byFew(most * points[k]) / Math.sqrt(v) : Infinity)),
      )
    },
    /** How a frame meets the surface where other things alone hold it: nothing is moved. about: what it is held at, where it shows nothing of the part */
    meet(xyz: Float32Array, by: Held, about: ArrayLike<number> = xyz): ShapePose {
      const n = xyz.length / 3
      const step = Math.max(1, Math.floor(n / (o.points ?? 1500)))
      lever = placed(about, 1, by.pose, middle)
      const { values, vectors } = jacobiEigen(heldAt(by, by.pose, middle, lever).information, 6)
      const sigmas = values.map((v) => (v > 0 ? 1 / Math.sqrt(v) : Infinity))
      // a line goes on where nothing is known yet: what it meets there is another face
      if (n) look(xyz, by.pose, step, widest / 3, Math.max(...sigmas) ** 2, surface.lines ? BESIDE * surface.side : Infinity)
      else [met, fits, sum, expected, held] = [0, 0, 0, 0, 0]
      return told(by.pose, Math.max(1, Math.ceil(n / step)), vectors, sigmas)
    },
  }
}
export type ShapeTracker = ReturnType<typeof shapeTracker>

/** Where nearly all points of a frame lie, of the newest frame that was asked for. */
let core: { xyz: ArrayLike<number>; box: ArrayLike<number> } | undefined
const coreOf = (xyz: ArrayLike<number>): ArrayLike<number> => (core?.xyz === xyz ? core : (core = { xyz, box: coreBox(xyz, CORE) })).box
/** points that tell of it */
const CORE = 2000

/** Middle of a frame where it lies now, and the typical distance from it, which no pose changes; a stray far away counts for nothing. */
function placed(xyz: ArrayLike<number>, step: number, pose: Mat4, middle: [number, number, number]): number {
  const box = coreOf(xyz)
  let [n, x, y, z, squares] = [0, 0, 0, 0, 0]
  for (let i = 0; i < xyz.length; i += 3 * step) {
    const [a, b, c] = [xyz[i], xyz[i + 1], xyz[i + 2]]
    if (a < box[0] || b < box[1] || c < box[2] || a > box[3] || b > box[4] || c > box[5]) continue
    n++
    x += a
    y += b
    z += c
    squares += a * a + b * b + c * c
  }
  x /= n
  y /= n
  z /= n
  for (let k = 0; k < 3; k++) middle[k] = pose[4 * k] * x + pose[4 * k + 1] * y + pose[4 * k + 2] * z + pose[4 * k + 3]
  return Math.max(1e-3, Math.sqrt(Math.max(0, squares / n - x * x - y * y - z * z)))
}

/** Typical distance of a frame's points from their middle, mm. */
export const leverOf = (xyz: Float32Array): number => placed(xyz, 1, identity(), [0, 0, 0])
