import { describe, expect, test } from '@jest/globals'
import { fromRotationVector, transformArray } from '../src/base/mat4.ts'
import { seeded } from '../src/base/random.ts'
import { quietContext } from '../src/base/run.ts'
import { estimateNormals } from '../src/shape/normals.ts'
import { makePoints } from '../src/shape/points.ts'
import { slabs } from '../src/shape/slabs.ts'
import { randomPoints } from './help.ts'
import { cube, noisy } from './shapes.ts'

describe('slabs of a cloud', () => {
  test('each point belongs to one, and all that lies within reach of it comes along', () => {
    const xyz = randomPoints(6000, 40, 3)
    for (let i = 0; i < xyz.length; i += 3) xyz[i + 1] *= 2
    // a stray beyond the box by which the slabs are cut, on either side
    xyz.set([1, 5000, 1, 2, -7000, 3])
    const owners = new Int32Array(6000)
    let parts = 0
    for (const slab of slabs(xyz, 900, 3)) {
      parts++
      const ids = slab.ids as Uint32Array
      expect(ids.length * 3).toBe(slab.xyz.length)
      expect(slab.own).toBeLessThanOrEqual(900)
      const inside = new Set(ids)
      for (let k = 0; k < slab.own; k++) {
        owners[ids[k]]++
        expect([...slab.xyz.subarray(3 * k, 3 * k + 3)]).toEqual([...xyz.subarray(3 * ids[k], 3 * ids[k] + 3)])
        if (k % 20) continue
        for (let j = 0; j < 6000; j++) {
          const d = Math.hypot(xyz[3 * j] - xyz[3 * ids[k]], xyz[3 * j + 1] - xyz[3 * ids[k] + 1], xyz[3 * j + 2] - xyz[3 * ids[k] + 2])
          if (d < 3) expect(inside.has(j)).toBe(true)
        }
      }
    }
    expect(parts).toBeGreaterThan(6)
    expect([...owners].every((c) => c === 1)).toBe(true)
  })
  test('a small cloud comes as it is; one without any extent does not end in a loop', () => {
    const xyz = randomPoints(50, 4, 1)
    expect([...slabs(xyz, 50, 1)]).toEqual([{ xyz, ids: null, own: 50 }])
    const same = new Float32Array(300).fill(2)
    const all = [...slabs(same, 10, 1)]
    expect(all.reduce((s, p) => s + p.own, 0)).toBe(100)
  })
  test('normals, noise and edges made in slabs are those made at once', async () => {
    const { xyz } = noisy(cube(20, 0.4), 0.01, seeded(4))
    // not along the axes, far out, seen from a corner
    const moved = transformArray(fromRotationVector(0.3, -0.2, 0.5, 300, 20, -700), xyz, new Float32Array(xyz.length))
    const points = makePoints({ xyz: moved, viewpoint: [400, 200, -500] })
    const one = await estimateNormals(points, {}, quietContext)
    const many = await estimateNormals(points, { slab: 1500 }, quietContext)
    expect(one.edgeShare).toBeGreaterThan(0.1)
    expect(many.edgeShare).toBeCloseTo(one.edgeShare, 2)
    expect(many.sigma / one.sigma).toBeCloseTo(1, 5)
    // sums run in another order: the last digits, and where two planes explain a point as well, the other one
    let other = 0
    for (let i = 0; i < moved.length; i += 3) {
      const c = [0, 1, 2].reduce((s, k) => s + one.points.normals[i + k] * many.points.normals[i + k], 0)
      if (c < 1 - 1e-6) other++
    }
    expect(other / (moved.length / 3)).toBeLessThan(1e-3)
  })
})
