import { invertRigid, rotateVector, transformPoint } from '@oak-gauge/core/base/mat4.ts'
import { fitPlane, planeThrough, type Plane } from '@oak-gauge/core/clean/plane.ts'
import type { TrayItem } from '@oak-gauge/contract'
import type { Arrays } from '../../view/display.ts'
import type { Place } from '../../view/viewSlice.ts'

export interface TrimPreview {
  /** raised, part on the positive side, job coordinates */
  plane: Plane
  /** share of the shown points that would go, 0..1 */
  share: number
  /** about so many of all points */
  points: number
  left: number
}

/** The plane of the picked places, and what it would take away, from the points the screen shows. Same rules as the operation trim-plane. */
export function previewTrim(
  places: Place[],
  patchRadius: number,
  raise: number,
  flip: boolean,
  passes: { item: TrayItem; arrays: Arrays }[],
): TrimPreview | null {
  let plane: Plane
  if (places.length === 3) plane = planeThrough(places[0].at, places[1].at, places[2].at)
  else if (places.length === 1) {
    const near: number[] = []
    const at = places[0].at
    for (const { item, arrays } of passes) {
      const back = invertRigid(item.pose)
      const [x, y, z] = transformPoint(back, at[0], at[1], at[2])
      const p = arrays['xyz']
      for (let i = 0; i < p.length; i += 3)
        if ((p[i] - x) ** 2 + (p[i + 1] - y) ** 2 + (p[i + 2] - z) ** 2 <= patchRadius ** 2) near.push(...transformPoint(item.pose, p[i], p[i + 1], p[i + 2]))
    }
    if (near.length < 30) return null
    plane = fitPlane(near)
  } else return null
  let balance = 0
  const inPass = passes.map(({ item, arrays }) => {
    const n = rotateVector(invertRigid(item.pose), plane.normal[0], plane.normal[1], plane.normal[2])
    const offset = plane.offset - (plane.normal[0] * item.pose[3] + plane.normal[1] * item.pose[7] + plane.normal[2] * item.pose[11])
    const p = arrays['xyz']
    let s = 0
    for (let i = 0; i < p.length; i += 3) s += n[0] * p[i] + n[1] * p[i + 1] + n[2] * p[i + 2] - offset
    balance += (s * item.count) / (p.length / 3)
    return { n, offset, p, count: item.count }
  })
  const sign = balance < 0 !== flip ? -1 : 1
  let gone = 0
  let total = 0
  for (const { n, offset, p, count } of inPass) {
    const limit = sign * offset + raise
    let k = 0
    for (let i = 0; i < p.length; i += 3) if (sign * (n[0] * p[i] + n[1] * p[i + 1] + n[2] * p[i + 2]) <= limit) k++
    gone += (k * count) / (p.length / 3)
    total += count
  }
  const normal = plane.normal.map((v) => sign * v) as [number, number, number]
  return { plane: { normal, offset: sign * plane.offset + raise }, share: gone / total, points: Math.round(gone), left: Math.round(total - gone) }
}
