import type { FramePoints } from './framecode.ts'

/** Between which distances along its line of sight points of a scanner count, mm. */
export interface Reach {
  near: number
  far: number
}

/**
 * The points of a frame that lie within: a hand before the part, a wall behind it stay out, and nothing is lost, since frames are kept whole. By the depth along
 * the line of sight, which is what a focus goes by, and not by the distance from the lens. Gives the frame itself where all of it counts.
 */
export function inReach(frame: FramePoints, { near, far }: Reach): FramePoints {
  const { xyz, intensity, colours } = frame
  let n = 0
  for (let i = 2; i < xyz.length; i += 3) if (xyz[i] >= near && xyz[i] <= far) n++
  if (3 * n === xyz.length) return frame
  const out: FramePoints = {
    xyz: new Float32Array(3 * n),
    ...(intensity ? { intensity: new Uint8Array(n) } : {}),
    ...(colours ? { colours: new Uint8Array(3 * n) } : {}),
  }
  for (let i = 0, k = 0; 3 * i < xyz.length; i++) {
    if (!(xyz[3 * i + 2] >= near && xyz[3 * i + 2] <= far)) continue
    out.xyz.set(xyz.subarray(3 * i, 3 * i + 3), 3 * k)
    if (intensity && out.intensity) out.intensity[k] = intensity[i]
    if (colours) out.colours?.set(colours.subarray(3 * i, 3 * i + 3), 3 * k)
    k++
  }
  return out
}
