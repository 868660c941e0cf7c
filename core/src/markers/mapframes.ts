import { OakError } from '../base/errors.ts'
import { checkCancelled, type RunContext } from '../base/run.ts'
import type { Stereo } from '../calibrate/camera.ts'
import { worstUncertainty, type Markers } from './markers.ts'
import { evenSight, stereoSight, type MarkerFrame } from './sight.ts'
import type { SolvedMap } from './map.ts'
import { mapInput, solveMap } from './solvemap.ts'
import { makeTracker } from './tracker.ts'

export interface MapFramesOptions {
  /** optics the places were computed with; null: not known */
  stereo: Stereo | null
  /** relative standard uncertainty of lengths, from the calibration. Default 0: not known */
  scale?: number
  range?: { near: number; far: number }
  /** px for cameras, mm without optics. Default 0.03 px, 0.05 mm */
  noise?: number
  /** a map to go on from */
  known?: Markers
  /** what was planned, in the job */
  plan?: Markers
}

/** frames between two solutions on the way: poses that rest on running means drift */
const SETTLE = [40, 120, 300]

export interface MappedFrames extends SolvedMap {
  /** of all frames: how many could not be placed */
  lost: number
  recorded: number
}

/**
 * A map out of a recording: every frame tracked, the places solved now and then on the way and all together at the end. Throws
 * 'too-few-markers', 'not-determined', 'no-frames', 'cancelled'.
 */
export function mapFrames(frames: MarkerFrame[], o: MapFramesOptions, ctx: RunContext): MappedFrames {
  if (!frames.length) throw new OakError('no-frames', 'The recording holds no frames.', { remedy: 'Record the markers again.' })
  const sight = o.stereo ? stereoSight(o.stereo) : evenSight
  const tracker = makeTracker({ sight, noise: o.noise ?? (o.stereo ? 0.03 : 0.05), ...(o.known ? { known: asKnown(o.known) } : {}) })
  const about = { stereo: o.stereo, scale: o.scale ?? 0, ...(o.range ? { range: o.range } : {}), ...(o.known ? { ids: o.known.ids, before: o.known } : {}) }
  frames.forEach((f, i) => {
    if (i % 50 === 0) {
      checkCancelled(ctx)
      ctx.progress((0.5 * i) / frames.length, 'following the scanner')
    }
    tracker.feed(f)
    if (SETTLE.includes(i) && i < frames.length - 20 && tracker.known.length >= 4) {
      try {
        settleBy(tracker, solveMap(mapInput(tracker, about)))
      } catch (e) {
        // too little yet: the running means go on
        if (!(e instanceof OakError)) throw e
      }
    }
  })
  ctx.progress(0.6, 'solving all markers and frames')
  checkCancelled(ctx)
  if (tracker.lost() > 0.5 * frames.length)
    throw new OakError('lost', `${tracker.lost()} of ${frames.length} frames could not be placed.`, {
      remedy: 'Move slowly, keep at least four markers in view that were in view before, and check that no two groups of markers look alike.',
    })
  const solved = solveMap(mapInput(tracker, { ...about, ...(o.plan ? { plan: o.plan } : {}) }))
  return { ...solved, lost: tracker.lost(), recorded: frames.length }
}

/** What a tracker takes for known: with an uncertainty that leaves room for what was handled since. */
export const asKnown = (m: Markers) => ({ ...m, sigma: Float64Array.from(m.ids, (_, i) => Math.max(0.02, 2 * (worstUncertainty(m.covariance, i) || 0.02))) })

export function settleBy(tracker: ReturnType<typeof makeTracker>, s: SolvedMap): void {
  const positions = Float64Array.from(tracker.known.flatMap((k) => [k.x, k.y, k.z]))
  const sigma = Float64Array.from(tracker.known, (k) => k.sigma)
  // an earlier map may hold more, after these
  s.numbers.forEach((number, i) => {
    for (let k = 0; k < 3; k++) positions[3 * number + k] = s.markers.positions[3 * i + k]
    const c = s.markers.covariance
    sigma[number] = Math.sqrt(Math.max(0, c[6 * i] + c[6 * i + 3] + c[6 * i + 5]) / 3)
  })
  tracker.settle(positions, sigma)
  for (const [stays, goes] of s.doubles) tracker.unite(stays, goes)
}
