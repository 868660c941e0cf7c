import { describe, expect, it } from '@jest/globals'
import { invertRigid, transformPoint } from '../src/base/mat4.ts'
import { timesRound, wayRound } from '../src/capture/wayround.ts'

const IDEAL = 380
/** From how many of 400 places of the way a point is seen: within the working range, in the middle of the view, and from within 70 degrees of its normal. */
function seen(box: number[], at: [number, number, number], normal: [number, number, number]): number {
  return Array.from({ length: 400 }, (_, k) => wayRound(box, IDEAL, k / 400)).filter((pose) => {
    const [x, y, z] = transformPoint(invertRigid(pose), ...at)
    const to = [pose[3] - at[0], pose[7] - at[1], pose[11] - at[2]]
    const steep = to.reduce((s, v, i) => s + v * normal[i], 0) / Math.hypot(...to)
    return z > 250 && z < 550 && Math.abs(x / z) < 0.4 && Math.abs(y / z) < 0.3 && steep > 0.34
  }).length
}

describe('the way round', () => {
  const post = [-75, -60, 0, 75, 60, 366]
  it('ends where it began, and keeps its distance', () => {
    for (const box of [post, [-80, -60, 0, 80, 60, 60]]) {
      const [a, b] = [wayRound(box, IDEAL, 0), wayRound(box, IDEAL, 1)]
      expect(Math.max(...a.map((v, i) => Math.abs(v - b[i])))).toBeLessThan(1e-9)
    }
    expect([timesRound(post), timesRound([-80, -60, 0, 80, 60, 60])]).toEqual([2, 1])
    // nowhere does it come into the post, nor under the table
    for (let k = 0; k < 400; k++) {
      const p = wayRound(post, IDEAL, k / 400)
      expect([Math.hypot(p[3], p[7]) > 120 || p[11] > 520, p[11] > 30]).toEqual([true, true])
    }
  })
  it('shows what is tall from its foot to its top, from every side, and the table around it', () => {
    const [few, times] = [4, [0, 1, 2, 3, 4, 5, 6, 7]]
    for (const k of times) {
      const [c, s] = [Math.cos((k * Math.PI) / 4), Math.sin((k * Math.PI) / 4)]
      for (const z of [15, 90, 180, 270, 350]) expect([k, z, seen(post, [60 * c, 60 * s, z], [c, s, 0]) > few]).toEqual([k, z, true])
      expect([k, seen(post, [150 * c, 150 * s, 0], [0, 0, 1]) > few]).toEqual([k, true])
    }
    expect(seen(post, [0, 0, 366], [0, 0, 1])).toBeGreaterThan(few)
  })
})
