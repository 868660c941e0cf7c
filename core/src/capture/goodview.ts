import type { Mat4 } from '../base/mat4.ts'

/** Steady frames that are looked back over, some two seconds. */
const LATELY = 30
/** held as well as the best of those, within so many times */
const AS_WELL = 2

/**
 * The last good view: where one is led back to when the place is lost. Not the very last frame that was steady: as things go out of sight frames are held ever
 * less, and beside the last of them by too little (a row of ribs whose ends left the view: steady by 24 points, and 3 mm beside by 8).
 */
export function goodView(first: Mat4) {
  let views: { pose: Mat4; sigma: number }[] = []
  let last = first
  return {
    /** A steady frame, and how well it is held along its weakest motion, mm; Infinity where nobody says it. */
    saw(pose: Mat4, sigma: number): void {
      last = pose
      views.push({ pose, sigma })
      if (views.length > LATELY) views.shift()
    },
    /** What was seen so far counts no more: it begins at that place. */
    anew(pose: Mat4): void {
      views = []
      last = pose
    },
    /** Scanner to model. */
    pose(): Mat4 {
      const best = Math.min(...views.map((v) => v.sigma))
      return views.findLast((v) => v.sigma <= AS_WELL * best)?.pose ?? last
    },
  }
}
