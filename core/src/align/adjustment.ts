import { invertRigid, multiply, type Mat4 } from '../base/mat4.ts'
import type { RunContext } from '../base/run.ts'
import type { Placed, Points } from '../shape/points.ts'
import { addMarkers, type CommonMarker, type SetupUnknowns } from './commonmarkers.ts'
import type { Matches, MatchPass } from './match.ts'
import { normalEquations } from './normalequations.ts'
import { addPrior, frameUnknowns, type Prior } from './prior.ts'
import type { Unknowns } from './unknowns.ts'
import { varianceWithoutWeak, weakModes, withoutWeak, type WeakModes } from './weakmodes.ts'

/** What both the rounds and the report work on. */
export interface Adjustment {
  passes: Placed<Points>[]
  match: MatchPass[]
  poses: Mat4[]
  boxes: Float64Array[]
  setups: Int32Array
  /** 3 a pass, in the job at the start; and mm */
  centres: Float64Array
  levers: Float64Array
  spacing: number
  radius: number
  /** largest start error that is looked for, mm */
  widest: number
  gateEnd: number
  unknowns: Unknowns
  prior: Prior | null
  /** what several setups have seen; with a prior where its frames lay when they began to move, else where the setups did */
  markers: CommonMarker[]
  /** how many times better than by noise a motion must be held */
  aboveNoise: number
  /** n x n, which pairs are compared; null for all that meet */
  partners: Uint8Array | null
}

/** Solved equations of the last round. */
export interface Solved {
  all: Matches[]
  bound: number
  weak: WeakModes
}

/** How far a setup has gone since its markers were placed. */
export function setupMotion(job: Adjustment, setup: number): Mat4 {
  const i = job.setups.indexOf(setup)
  return job.prior ? job.prior.frames[job.prior.frameOf[i]] : multiply(job.poses[i], invertRigid(job.passes[i].pose))
}

const markersOver = (job: Adjustment, u: SetupUnknowns['u'], slotOf: ArrayLike<number>, from: number): SetupUnknowns => ({
  u,
  from,
  slotOf: (s) => slotOf[job.setups.indexOf(s)],
  motionOf: (s) => setupMotion(job, s),
})

/** By so much more than surface a motion that markers hold is held. */
const NO_NOISE = 1000

/** Motions of whole setups that neither surface nor markers hold, six numbers for each frame, of length one. */
export async function frameModes(
  job: Adjustment,
  all: Matches[],
  bound: number,
  ctx: RunContext,
): Promise<{ unknowns: Unknowns; weak: WeakModes; modes: Float64Array[] }> {
  const unknowns = frameUnknowns(job.prior as Prior)
  const eq = await normalEquations(all, job.poses, unknowns, bound, ctx)
  // what markers hold is no noise: it counts as held, long before it outweighs that of the surface
  const marked = new Float64Array(eq.h.length)
  addMarkers(job.markers, markersOver(job, unknowns, unknowns.slotOf, 0), marked, null, eq.size)
  for (let i = 0; i < marked.length; i++) eq.h[i] += NO_NOISE * marked[i]
  const weak = weakModes(eq.h, eq.noise, eq.size, job.aboveNoise)
  const modes = Array.from({ length: weak.count }, (_, c) => {
    const v = Float64Array.from({ length: eq.size }, (_, i) => weak.vectors[i * weak.count + c])
    const l = Math.hypot(...v)
    return v.map((x) => x / l)
  })
  return { unknowns, weak, modes }
}

/**
 * Equations of matches, markers and prior together, motions that nothing holds left out. data: of the matches alone.
 */
export async function assembleEquations(job: Adjustment, all: Matches[], bound: number, ctx: RunContext, limit?: number, wantsData = true) {
  const u = job.unknowns
  const eq = await normalEquations(all, job.poses, u, bound, ctx)
  const { markers } = job
  const weak = weakModes(eq.h, eq.noise, eq.size, limit ?? job.aboveNoise)
  withoutWeak(eq.g, weak)
  varianceWithoutWeak(eq.h, eq.size, weak)
  const frames = job.prior?.frames.length ?? 0
  const size = eq.size + 6 * frames
  const h = new Float64Array(size * size)
  const g = new Float64Array(size)
  g.set(eq.g)
  for (let i = 0; i < eq.size; i++) h.set(eq.h.subarray(i * eq.size, (i + 1) * eq.size), i * size)
  // what the matches alone say, where it is asked for
  const data = wantsData ? Float64Array.from(h) : h
  if (markers.length)
    addMarkers(markers, job.prior ? markersOver(job, job.prior.own, job.prior.frameOf, eq.size) : markersOver(job, u, u.slotOf, 0), h, g, size)
  if (job.prior) addPrior(job.prior, u, job.poses, job.centres, job.levers, h, g)
  // what neither surface nor record nor markers hold stays where it is
  const keep = job.prior || markers.length ? 1e-6 : 1
  for (let c = 0; c < weak.count; c++)
    for (let i = 0; i < eq.size; i++)
      for (let j = 0; j < eq.size; j++)
        h[i * size + j] += keep * Math.max(weak.holds[c], 1e-3) * weak.weighted[i * weak.count + c] * weak.weighted[j * weak.count + c]
  let mean = 0
  for (let i = 0; i < size; i++) mean += h[i * size + i] / Math.max(1, size)
  for (let i = 0; i < size; i++) h[i * size + i] += 1e-10 * mean + 1e-300
  return { h, g, data, size, own: eq.size, weak }
}
