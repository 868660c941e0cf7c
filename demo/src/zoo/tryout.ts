import { cross } from '@oak-gauge/core/base/vec3.ts'
import { OakError } from '@oak-gauge/core/base/errors.ts'
import { fromRotationVector, identity, invertRigid, multiply, transformPoint, type Mat4 } from '@oak-gauge/core/base/mat4.ts'
import type { RunContext } from '@oak-gauge/core/base/run.ts'
import { seeded } from '@oak-gauge/core/base/random.ts'
import { alignByShape } from '@oak-gauge/core/align/coarse.ts'
import { motionWords, type FreeMotion } from '@oak-gauge/core/align/freemotion.ts'
import { freedoms } from '@oak-gauge/core/align/freedom.ts'
import { adjustJointly } from '@oak-gauge/core/align/joint.ts'
import type { JointResult } from '@oak-gauge/core/align/jointreport.ts'
import type { Placed, Points } from '@oak-gauge/core/shape/points.ts'
import { sampleMesh } from '@oak-gauge/core/shape/sample.ts'
import { checkMesh, type MeshCheck } from './meshcheck.ts'
import { smallPose } from '../passes.ts'
import type { ZooPass, ZooScene } from './record.ts'

/** How one case of the zoo ended, against the truth. Lengths in mm of the part. */
export interface Outcome {
  part: string
  spacing: number
  noise: string
  seed: number
  /** right, wrong (and not said), doubtful (said), refused */
  shape: 'right' | 'wrong' | 'doubtful' | 'refused' | 'skipped'
  /** share of the second setup's surface that the first has seen as well */
  shared: number
  /** right: within 2.5 times what is stated; wrong: not; free named: of a part that the common surface does not hold; refused: in words */
  verdict: 'right' | 'wrong' | 'free not named' | 'free named' | 'refused'
  worst: number
  stated: number
  /** largest of true error over stated error */
  ratio: number
  /** error over stated error of each pass */
  normalised: number[]
  /** motions of the second setup that the common surface really leaves free, and those that were named */
  free: number
  named: string[]
  /** by shape, adjustment */
  seconds: number[]
  note: string
  /** the mesh of what is right, where it was asked for */
  mesh?: MeshCheck
}

const PLACES = 400

/** Runs the path of a user on the passes of a scene: by shape, all passes. What shape refuses starts from picked pairs, some spacings off. */
export async function tryOut(scene: ZooScene, passes: ZooPass[], what: { shape: boolean; mesh?: boolean }, ctx: RunContext): Promise<Outcome> {
  const placed = passes.map((p): Placed<Points> => ({ name: p.name, data: p.points, pose: p.pose, setup: `${p.setup}` }))
  const first = placed.filter((p) => p.setup === '0')
  const second = placed.filter((p) => p.setup === '1')
  const size = 150 * scene.unit
  const out: Outcome = {
    part: scene.part.name,
    spacing: 0,
    noise: '',
    seed: 0,
    shape: 'skipped',
    ...common(scene),
    named: [],
    verdict: 'refused',
    worst: Number.NaN,
    stated: Number.NaN,
    ratio: 0,
    normalised: [],
    seconds: [0, 0],
    note: '',
  }
  let move: Mat4 | undefined
  if (what.shape) {
    const t = performance.now()
    try {
      const r = await alignByShape(first, second, {}, ctx)
      const off = Math.min(...equals(scene).map((e) => offOf(scene, passes, r.pose, e)))
      out.shape = off < 0.06 * size ? 'right' : r.ambiguous || r.free.length ? 'doubtful' : 'wrong'
      if (out.shape !== 'right')
        out.note += `shape off ${(off / scene.unit).toFixed(1)} overlap ${r.overlap.toFixed(2)} against ${r.against.toFixed(3)} agree ${r.agree.toFixed(2)} free ${r.free.length} `
      else move = r.pose
    } catch (e) {
      if (!(e instanceof OakError)) throw e
      out.shape = 'refused'
    }
    out.seconds[0] = (performance.now() - t) / 1000
  }
  if (!move) {
    // as three picked pairs would leave it: a millimetre and half a degree off
    const random = seeded(77)
    const truth = multiply(passes[first.length].truePose, invertRigid(passes[first.length].pose))
    move = multiply(smallPose(random, 0.5, 1 * scene.unit, [0, 0, 0]), truth)
  }
  const start = placed.map((p) => (p.setup === '1' ? { ...p, pose: multiply(move, p.pose) } : p))
  const t = performance.now()
  try {
    const r = await adjustJointly(start, { setups: passes.map((p) => p.setup) }, ctx)
    judge(scene, passes, r, out)
    if (what.mesh && out.verdict === 'right') out.mesh = await checkMesh(scene, passes, start, r.poses, ctx)
  } catch (e) {
    if (!(e instanceof OakError)) throw e
    out.note += e.message
  }
  out.seconds[1] = (performance.now() - t) / 1000
  return out
}

/** Motions after which the part is the same as before. */
function equals(scene: ZooScene): Mat4[] {
  const { fold, turns } = scene.part
  const n = turns ? 180 : (fold ?? 1)
  return Array.from({ length: n }, (_, k) => fromRotationVector(0, 0, (2 * Math.PI * k) / n))
}

/** How far the second setup's places are from where they belong, at the farthest, when the part may be turned by `equal`. */
function offOf(scene: ZooScene, passes: ZooPass[], move: Mat4, equal: Mat4): number {
  const i = passes.findIndex((p) => p.setup === 1)
  const { exact } = scene.views[i]
  const got = multiply(move, multiply(passes[i].pose, invertRigid(passes[i].truePose)))
  let worst = 0
  const step = 3 * Math.max(1, Math.floor(exact.length / 3 / PLACES))
  for (let k = 0; k < exact.length; k += step) {
    const a = transformPoint(equal, exact[k], exact[k + 1], exact[k + 2])
    const b = transformPoint(got, exact[k], exact[k + 1], exact[k + 2])
    worst = Math.max(worst, Math.hypot(a[0] - b[0], a[1] - b[1], a[2] - b[2]))
  }
  return worst
}

function judge(scene: ZooScene, passes: ZooPass[], r: JointResult, out: Outcome): void {
  const size = 150 * scene.unit
  // of a part that is the same after a turn, the turn that the second setup was laid down with
  const second = passes.findIndex((p) => p.setup === 1)
  const laid = multiply(r.poses[second], invertRigid(passes[second].pose))
  const equal = equals(scene).reduce(
    (best, e) => {
      const off = offOf(scene, passes, laid, e)
      return off < best.off ? { e, off } : best
    },
    { e: identity(), off: Infinity },
  ).e
  out.named = r.free.map((f) => `${f.passes.length} ${motionWords(f)}`)
  let worst = { error: 0, stated: 0, ratio: 0 }
  const free = scene.part.turns
  let unnamed = false
  // the first pass stays where it was recorded, which is a little off as well
  const toPart = multiply(passes[0].truePose, invertRigid(r.poses[0]))
  r.passes.forEach((p, i) => {
    if (i === 0) return
    const { exact } = scene.views[i]
    const turn = passes[i].setup === 1 ? equal : identity()
    // where the places came to lie, against where they belong
    const got = multiply(toPart, multiply(r.poses[i], invertRigid(passes[i].truePose)))
    const step = 3 * Math.max(1, Math.floor(exact.length / 3 / PLACES))
    const at: number[][] = []
    const off: number[][] = []
    for (let k = 0; k < exact.length; k += step) {
      const a = transformPoint(turn, exact[k], exact[k + 1], exact[k + 2])
      const b = transformPoint(got, exact[k], exact[k + 1], exact[k + 2])
      at.push(a)
      off.push([b[0] - a[0], b[1] - a[1], b[2] - a[2]])
    }
    const motions = p.free
    if (free && passes[i].setup === 1 && !motions.some((m) => m.kind === 'turn' && Math.abs(dot(m.axis, free.axis)) > 0.98)) unnamed = true
    // what is said to be free is not held against it; of a part that may turn, the turn is not
    const error = rms(without(at, off, [...motions, ...(free ? [{ kind: 'turn', axis: free.axis, through: free.at } as FreeMotion] : [])]))
    const stated = p.sigma
    const honest = Number.isFinite(stated)
    const ratio = honest ? error / stated : 0
    if (honest) out.normalised.push(ratio)
    if (honest && (ratio > worst.ratio || worst.ratio === 0)) worst = { error, stated, ratio }
    // even a free motion is no licence: what is held must be right
    if (!honest && error > 0.02 * size) out.note += `${passes[i].name} ${error.toFixed(2)} off besides what is free `
  })
  out.worst = Math.max(worst.error, 0)
  out.stated = worst.stated
  out.ratio = worst.ratio
  out.verdict = unnamed
    ? 'free not named'
    : worst.ratio > 2.5
      ? 'wrong'
      : r.passes.every((p) => Number.isFinite(p.sigma))
        ? 'right'
        : out.free > 0
          ? 'free named'
          : 'refused'
}

const dot = (a: ArrayLike<number>, b: ArrayLike<number>) => a[0] * b[0] + a[1] * b[1] + a[2] * b[2]
const rms = (v: number[][]) => Math.sqrt(v.reduce((s, x) => s + dot(x, x), 0) / Math.max(1, v.length))

/** Displacements less what the given motions explain (Gram-Schmidt over the motions' own displacements). */
function without(at: number[][], off: number[][], motions: FreeMotion[]): number[][] {
  const basis: number[][][] = []
  for (const m of motions) {
    let v = at.map((p) => (m.kind === 'slide' ? [...m.axis] : cross(m.axis, [p[0] - m.through[0], p[1] - m.through[1], p[2] - m.through[2]])))
    for (const b of basis) v = less(v, b)
    const l = rms(v)
    if (l > 1e-9) basis.push(v.map((x) => x.map((c) => c / l)))
  }
  return basis.reduce(less, off)
}

function less(v: number[][], b: number[][]): number[][] {
  const f = v.reduce((s, x, i) => s + dot(x, b[i]), 0) / b.reduce((s, x) => s + dot(x, x), 0)
  return v.map((x, i) => x.map((c, k) => c - f * b[i][k]))
}

/** A motion that less than this share of the common surface resists is held by nothing that could be measured. */
const HELD = 0.01

/** What a view can see of a face: not more aslant than this, with the limit of the recording (76 degrees) a little inside. */
const FACING = Math.cos((78 * Math.PI) / 180)

/**
 * Share of the second setup's surface that the first has seen as well, and how many of its six motions that surface really leaves free, by the part's exact normals
 * (Gelfand 2003). A place counts as seen when points lie near it and its own side faces a view: points on the wall beside a face that nobody saw are no sight of it.
 */
function common(scene: ZooScene): { shared: number; free: number } {
  const cell = 1.2 * scene.unit
  const key = (x: number, y: number, z: number) => `${Math.floor(x / cell)},${Math.floor(y / cell)},${Math.floor(z / cell)}`
  const near = [new Set<string>(), new Set<string>()]
  for (const v of scene.views) for (let k = 0; k < v.exact.length; k += 3) near[v.setup].add(key(v.exact[k], v.exact[k + 1], v.exact[k + 2]))
  const { xyz, normals } = sampleMesh(scene.mesh, 40_000)
  const seen = (setup: number, i: number) =>
    near[setup].has(key(xyz[i], xyz[i + 1], xyz[i + 2])) &&
    scene.views.some((v) => {
      const d = [0, 1, 2].map((c) => v.eye[c] - xyz[i + c])
      return v.setup === setup && dot(normals.subarray(i, i + 3), d) > FACING * Math.hypot(...d)
    })
  const at: number[] = []
  let second = 0
  for (let i = 0; i < xyz.length; i += 3) {
    if (!seen(1, i)) continue
    second++
    if (seen(0, i)) at.push(i)
  }
  const middle = [0, 1, 2].map((c) => at.reduce((s, i) => s + xyz[i + c], 0) / Math.max(1, at.length))
  const lever = Math.sqrt(at.reduce((s, i) => s + [0, 1, 2].reduce((t, c) => t + (xyz[i + c] - middle[c]) ** 2, 0), 0) / Math.max(1, at.length))
  const sums = new Float64Array(36)
  for (const i of at) {
    const n = normals.subarray(i, i + 3)
    const r = [0, 1, 2].map((c) => (xyz[i + c] - middle[c]) / lever)
    const row = [...cross(r, n), ...n]
    for (let a = 0; a < 6; a++) for (let b = 0; b < 6; b++) sums[6 * a + b] += row[a] * row[b]
  }
  return { shared: at.length / Math.max(1, second), free: freedoms(sums, at.length, 1).filter((f) => f.hold < HELD).length }
}
