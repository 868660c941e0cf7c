import { transformPoint, type Mat4 } from '../base/mat4.ts'
import { cameraToArray, project } from '../calibrate/camera.ts'
import type { AdjustResult } from './adjust.ts'
import type { MapInput } from './map.ts'

/** frames in a row in which a marker should have been seen */
const MISSED = 12
/** cosine between views from nearly the same side: 8 degrees */
const LIKE = 0.99

export const place = (r: AdjustResult, at: number): [number, number, number] => [r.positions[3 * at], r.positions[3 * at + 1], r.positions[3 * at + 2]]
export const firstFrame = (assigned: Int32Array[], m: number) => assigned.findIndex((pairs) => pairs.includes(m))
export const lastFrame = (assigned: Int32Array[], m: number) => assigned.findLastIndex((pairs) => pairs.includes(m))

/** Seen from nearly the same side before, well inside both images in the frames since, and in none of them. */
export function isMissing(input: MapInput, assigned: Int32Array[], m: number, r: AdjustResult, at: number): boolean {
  const { stereo, range } = input
  const last = lastFrame(assigned, m)
  if (!stereo || last < 0 || last > assigned.length - MISSED) return false
  const p = place(r, at)
  const eye = (f: number): [number, number, number] => {
    const q = r.poses[f]
    const d = [0, 1, 2].map((k) => -(q[k] * q[3] + q[4 + k] * q[7] + q[8 + k] * q[11]) - p[k])
    const l = Math.hypot(d[0], d[1], d[2])
    return [d[0] / l, d[1] / l, d[2] / l]
  }
  const cameras = [stereo.left, stereo.right].map(cameraToArray)
  const uv = new Float64Array(2)
  const inView = (f: number): boolean => {
    if (!(r.poses[f] as Mat4 | undefined)) return false
    const q = transformPoint(r.poses[f], ...p)
    if (range && (q[2] < 1.05 * range.near || q[2] > 0.95 * range.far)) return false
    return cameras.every((c, k) => {
      project(c, ...(k ? transformPoint(stereo.pose, ...q) : q), uv)
      const size = k ? stereo.right : stereo.left
      return uv[0] > 40 && uv[1] > 40 && uv[0] < size.width - 40 && uv[1] < size.height - 40
    })
  }
  const before = assigned.flatMap((pairs, f) => (f <= last && inView(f) ? [{ eye: eye(f), seen: pairs.includes(m) }] : []))
  let missed = 0
  for (let f = last + 1; f < assigned.length; f++) {
    if (!inView(f)) continue
    const e = eye(f)
    // from nearly there it used to be seen: what hides it, or is too steep, hid it then as well
    const like = before.filter((b) => b.eye[0] * e[0] + b.eye[1] * e[1] + b.eye[2] * e[2] > LIKE)
    if (like.length >= 3 && like.filter((b) => b.seen).length >= 0.8 * like.length) missed++
  }
  return missed >= MISSED
}

/** A marker gone and one of the same size that came after it within 40 mm: the same, stuck again. */
export function pairOff(
  gone: { at: number; place: [number, number, number]; diameter: number }[],
  came: { at: number; place: [number, number, number]; diameter: number; first: number }[],
  lastSeen: (at: number) => number,
): { from: number; to: number; distance: number; shift: [number, number, number] }[] {
  const pairs = gone.flatMap((g) =>
    came
      .filter((c) => c.first > lastSeen(g.at) && Math.abs(c.diameter - g.diameter) < 1)
      .map((c) => {
        const shift: [number, number, number] = [c.place[0] - g.place[0], c.place[1] - g.place[1], c.place[2] - g.place[2]]
        return { from: g.at, to: c.at, shift, distance: Math.hypot(...shift) }
      })
      .filter((p) => p.distance < 40),
  )
  pairs.sort((a, b) => a.distance - b.distance)
  return pairs.filter((p, i) => !pairs.slice(0, i).some((q) => q.from === p.from || q.to === p.to))
}
