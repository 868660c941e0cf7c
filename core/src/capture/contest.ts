import type { Mat4 } from '../base/mat4.ts'
import { doubledShare, KNOWN } from './doubled.ts'
import { PATCH } from './patch.ts'
import type { GrowingSurface } from './surface.ts'
import { hiddenShare } from './verdict.ts'

/** points of a frame that are asked what they contradict */
const ASKED = 1200
/** deviations beyond which a point does not lie on a patch */
const OFF = 4
/** share of the places that have to be seen again */
const ENOUGH = 0.5
/** so many frames on end, at least, that contradict nothing */
const AGREEING = 5

/**
 * Places of known surface that frames contradicted, until they are seen again as they were. xyz: 3N mm, scanner coordinates; pose: scanner to model.
 */
function contested(surface: GrowingSurface, noise: number) {
  const places = new Set<number>()
  const again = new Set<number>()
  const patch = new Float64Array(PATCH)
  /** cube of known surface a point lies in, and whether it lies on its plane */
  const eachKnown = (xyz: Float32Array, pose: Mat4, step: number, take: (k: number, lies: boolean) => void) => {
    for (let i = 0; i < xyz.length; i += 3 * step) {
      const x = pose[0] * xyz[i] + pose[1] * xyz[i + 1] + pose[2] * xyz[i + 2] + pose[3]
      const y = pose[4] * xyz[i] + pose[5] * xyz[i + 1] + pose[6] * xyz[i + 2] + pose[7]
      const z = pose[8] * xyz[i] + pose[9] * xyz[i + 1] + pose[10] * xyz[i + 2] + pose[11]
      const [vx, vy, vz] = [pose[3] - x, pose[7] - y, pose[11] - z]
      const k = surface.cubeAt(x, y, z, vx, vy, vz)
      if (k < 0 || surface.seenIn(k) < KNOWN || !surface.patchAt(x, y, z, vx, vy, vz, patch)) continue
      const off = (x - patch[0]) * patch[3] + (y - patch[1]) * patch[4] + (z - patch[2]) * patch[5]
      take(k, off * off < OFF ** 2 * (noise ** 2 + patch[7]))
    }
  }
  const add = (k: number) => void places.add(k)
  return {
    /** A frame that contradicts. */
    add(xyz: Float32Array, pose: Mat4): void {
      again.clear()
      doubledShare(surface, xyz, pose, add)
      hiddenShare(surface, xyz, pose, add)
      eachKnown(xyz, pose, Math.max(1, Math.floor(xyz.length / 3 / ASKED)), (k, lies) => {
        if (!lies) places.add(k)
      })
    },
    /** A frame that does not: whether enough has been seen again, by it and those before, since the last one that did. */
    seenAgain(xyz: Float32Array, pose: Mat4): boolean {
      eachKnown(xyz, pose, 1, (k, lies) => {
        if (lies && places.has(k)) again.add(k)
      })
      return again.size >= ENOUGH * places.size
    },
  }
}

/**
 * What frames that are held by markers, or by the scanner's own word, contradict: something has moved. When they do so `most` times on end, nothing enters from
 * the first of them on, until half of what they contradicted has been seen again as it was: led on, it may go out of sight, and the frames after it would smear
 * what is known. Tried: only that no frame contradicts any more: a round part nudged by 2 mm along what is seen (mishaps) contradicted for nineteen frames and
 * 13 degrees, and then 7 of 59 frames were placed 1.6 mm off.
 */
export function contests(noise: number, most: number) {
  /** since the first frame of those that contradict on end */
  let places: ReturnType<typeof contested> | undefined
  let since = 0
  let [onEnd, agreeing] = [0, 0]
  let moved = false
  /** from these times nothing enters later either */
  const spans: { from: number; to: number }[] = []
  return {
    /** Frames on end that contradict. */
    onEnd: () => onEnd,
    /** Whether a frame may not enter though it fits. */
    bars: (time: number): boolean => (moved && time >= since) || spans.some((s) => time >= s.from && time <= s.to),
    /** A frame that contradicts. */
    against(surface: GrowingSurface, time: number, xyz: Float32Array, pose: Mat4): void {
      if (!places) {
        places = contested(surface, noise)
        since = time
      }
      places.add(xyz, pose)
      onEnd++
      agreeing = 0
      moved ||= onEnd >= most
    },
    /** One that does not. */
    agrees(time: number, xyz: Float32Array, pose: Mat4): void {
      onEnd = 0
      if (!moved) places = undefined
      if (!places) return
      agreeing++
      if (!places.seenAgain(xyz, pose) || agreeing < AGREEING) return
      spans.push({ from: since, to: time })
      moved = false
      places = undefined
    },
    /** The surface is another one, or a person has taken out of it what was wrong. */
    forget(): void {
      places = undefined
      moved = false
      onEnd = 0
    },
  }
}
