import type { Stereo } from '../calibrate/camera.ts'

/** px by which a place is taken to be located */
const LOCATED = 0.03

/** Noise of a point along the line of sight, mm, at a distance, mm: a disparity is the difference of two places in the images (Hartley and Zisserman 2004, 12.6). */
export function lineNoise({ left, pose }: Stereo, distance: number): number {
  const base = Math.hypot(pose[3], pose[7], pose[11])
  return (distance ** 2 / (left.fx * base)) * LOCATED * Math.SQRT2
}
