import { identity, invertRigid, multiply, rotationAngleDeg, transformPoint, type Mat4 } from '../base/mat4.ts'
import { seeded } from '../base/random.ts'
import { defineKernel, type RunContext } from '../base/run.ts'
import type { Cloud } from './cloud.ts'

export interface PairVoteOptions {
  /** points of the fixed side whose pairs are tabled; default 900 */
  tabled?: number
  /** reference points of the moving side that vote; default 160 */
  references?: number
  seed?: number
}

const ANGLES = 15
const TURNS = 30
const COMMONEST = 3000

/**
 * Poses that many point pairs of the moving side agree on (Drost, Ulrich, Navab and Ilic 2010): pairs of the fixed side are tabled by
 * their distance and the angles of their normals; each reference point of the moving side votes with all its pairs for the
 * fixed point it may be and the turn about its normal. Pairs within one plane say nothing and are left out; rare pairs weigh more.
 * Returns poses (moving to fixed), most votes first. Finds what local features cannot when sides share a third of their surface
 * and most of it is flat: on the bracket, upright against on its side, 0.15 % of the feature matches were right.
 */
export async function poseVotes(fixed: Cloud, moving: Cloud, options: PairVoteOptions, ctx: RunContext): Promise<Mat4[]> {
  const random = seeded(options.seed ?? 1)
  const step = 2 * fixed.size
  const longest = 0.6 * Math.min(fixed.diagonal, moving.diagonal)
  const shortest = Math.max(3 * step, 0.08 * longest)
  const bins = Math.ceil(longest / step) + 1
  const chosen = subset(fixed.xyz.length / 3, options.tabled ?? 900, random)
  const frames = chosen.map((i) => frameAt(fixed, i))
  const binning = { step, shortest, longest, bins }
  const table = tabulate(fixed, chosen, frames, binning)
  const references = subset(moving.xyz.length / 3, options.references ?? 160, random)
  const found = await ctx.parallel.map(vote, { moving, references, frames, table, binning }, references.length, 10, ctx, (d) => ctx.progress(d))
  return gather(found.flat(), moving, 4 * step)
}

interface VoteArgs {
  moving: Cloud
  references: number[]
  /** of the tabled points of the fixed side */
  frames: Mat4[]
  table: ReturnType<typeof tabulate>
  binning: Binning
}

/** The three places and turns that most pairs of each reference point speak for. */
const vote = defineKernel('align.votes', ({ moving, references, frames, table, binning }: VoteArgs, first: number, last: number) => {
  const pair = { key: -1, turn: 0 }
  const votes = new Float32Array(frames.length * TURNS)
  const found: { pose: Mat4; votes: number }[] = []
  const n = moving.xyz.length / 3
  for (const r of references.slice(first, last)) {
    votes.fill(0)
    const own = frameAt(moving, r)
    for (let s = 0; s < n; s++) {
      describe(moving, r, s, own, binning, pair)
      if (pair.key < 0) continue
      const a = table.start[pair.key]
      const b = table.start[pair.key + 1]
      // what most pairs of the part look like tells nothing, and would take all the time (a ball has one such key)
      if (b - a > COMMONEST) continue
      const weight = 1 / (20 + b - a)
      for (let e = a; e < b; e++) {
        let turn = table.turn[e] - pair.turn
        turn -= Math.floor(turn)
        votes[table.point[e] * TURNS + Math.min(TURNS - 1, Math.floor(turn * TURNS))] += weight
      }
    }
    const back = invertRigid(own)
    for (const cell of best(votes, 3)) {
      const turn = (2 * Math.PI * ((cell % TURNS) + 0.5)) / TURNS
      const about = identity()
      about[0] = Math.cos(turn)
      about[1] = -Math.sin(turn)
      about[4] = Math.sin(turn)
      about[5] = Math.cos(turn)
      found.push({ pose: multiply(multiply(frames[Math.floor(cell / TURNS)], about), back), votes: votes[cell] })
    }
  }
  return found
})

interface Binning {
  step: number
  shortest: number
  longest: number
  bins: number
}

function tabulate(c: Cloud, chosen: number[], frames: Mat4[], binning: Binning) {
  const n = chosen.length
  const pair = { key: -1, turn: 0 }
  const keys = new Int32Array(n * n).fill(-1)
  const turns = new Float32Array(n * n)
  const start = new Uint32Array(binning.bins * ANGLES ** 3 + 1)
  for (let i = 0; i < n; i++)
    for (let j = 0; j < n; j++) {
      describe(c, chosen[i], chosen[j], frames[i], binning, pair)
      if (pair.key < 0) continue
      keys[i * n + j] = pair.key
      turns[i * n + j] = pair.turn
      start[pair.key + 1]++
    }
  for (let k = 1; k < start.length; k++) start[k] += start[k - 1]
  const at = start.slice()
  const point = new Uint32Array(start[start.length - 1])
  const turn = new Float32Array(point.length)
  for (let e = 0; e < keys.length; e++) {
    if (keys[e] < 0) continue
    const o = at[keys[e]]++
    point[o] = Math.floor(e / n)
    turn[o] = turns[e]
  }
  return { start, point, turn }
}

/** Key of the pair's invariants and its turn about the first normal, 0..1; key -1 for pairs that are left out. */
function describe(c: Cloud, i: number, j: number, frame: Mat4, b: Binning, out: { key: number; turn: number }): void {
  const { xyz: p, normals: n } = c
  const u = 3 * i
  const v = 3 * j
  const dx = p[v] - p[u]
  const dy = p[v + 1] - p[u + 1]
  const dz = p[v + 2] - p[u + 2]
  const d = Math.sqrt(dx * dx + dy * dy + dz * dz)
  out.key = -1
  if (d < b.shortest || d > b.longest) return
  const a1 = (n[u] * dx + n[u + 1] * dy + n[u + 2] * dz) / d
  const a2 = (n[v] * dx + n[v + 1] * dy + n[v + 2] * dz) / d
  const a3 = n[u] * n[v] + n[u + 1] * n[v + 1] + n[u + 2] * n[v + 2]
  if (a3 > 0.95 && Math.abs(a1) < 0.12 && Math.abs(a2) < 0.12) return
  out.key = ((Math.floor(d / b.step) * ANGLES + angleBin(a1)) * ANGLES + angleBin(a2)) * ANGLES + angleBin(a3)
  const x = frame[0] * dx + frame[4] * dy + frame[8] * dz
  const y = frame[1] * dx + frame[5] * dy + frame[9] * dz
  out.turn = Math.atan2(y, x) / (2 * Math.PI)
}

const angleBin = (cos: number) => Math.min(ANGLES - 1, Math.floor((Math.acos(Math.max(-1, Math.min(1, cos))) / Math.PI) * ANGLES))

/** Pose whose origin is the point and whose z is its normal. */
function frameAt(c: Cloud, i: number): Mat4 {
  const n = [c.normals[3 * i], c.normals[3 * i + 1], c.normals[3 * i + 2]]
  const h = Math.abs(n[0]) < 0.7 ? [1, 0, 0] : [0, 1, 0]
  const x = [h[1] * n[2] - h[2] * n[1], h[2] * n[0] - h[0] * n[2], h[0] * n[1] - h[1] * n[0]]
  const l = Math.hypot(x[0], x[1], x[2])
  for (let k = 0; k < 3; k++) x[k] /= l
  const y = [n[1] * x[2] - n[2] * x[1], n[2] * x[0] - n[0] * x[2], n[0] * x[1] - n[1] * x[0]]
  const m = identity()
  for (let k = 0; k < 3; k++) {
    m[4 * k] = x[k]
    m[4 * k + 1] = y[k]
    m[4 * k + 2] = n[k]
    m[4 * k + 3] = c.xyz[3 * i + k]
  }
  return m
}

function subset(n: number, count: number, random: ReturnType<typeof seeded>): number[] {
  const all = Array.from({ length: n }, (_, i) => i)
  const take = Math.min(n, count)
  for (let i = 0; i < take; i++) {
    const j = i + random.below(n - i)
    ;[all[i], all[j]] = [all[j], all[i]]
  }
  return all.slice(0, take)
}

function best(votes: Float32Array, count: number): number[] {
  const out: number[] = []
  for (let i = 0; i < votes.length; i++) {
    if (votes[i] === 0 || (out.length === count && votes[i] <= votes[out[count - 1]])) continue
    if (out.length === count) out.pop()
    out.push(i)
    out.sort((a, b) => votes[b] - votes[a])
  }
  return out
}

/** Poses that say the same are one, with the votes of all. */
function gather(found: { pose: Mat4; votes: number }[], moving: Cloud, near: number): Mat4[] {
  found.sort((a, b) => b.votes - a.votes)
  const middle = [0, 0, 0]
  for (let i = 0; i < moving.xyz.length; i++) middle[i % 3] += moving.xyz[i] / (moving.xyz.length / 3)
  const groups: { pose: Mat4; votes: number; at: [number, number, number] }[] = []
  for (const f of found) {
    const at = transformPoint(f.pose, middle[0], middle[1], middle[2])
    const same = groups.find(
      (g) => Math.hypot(g.at[0] - at[0], g.at[1] - at[1], g.at[2] - at[2]) < near && rotationAngleDeg(multiply(invertRigid(g.pose), f.pose)) < 15,
    )
    if (same) same.votes += f.votes
    else groups.push({ ...f, at })
  }
  return groups.sort((a, b) => b.votes - a.votes).map((g) => g.pose)
}
