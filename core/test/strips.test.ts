import { describe, expect, test } from '@jest/globals'
import { adjustJointly, prepare } from '../src/align/joint.ts'
import { STRIP } from '../src/align/support.ts'
import { translation } from '../src/base/mat4.ts'
import { seeded, type Random } from '../src/base/random.ts'
import { quietContext } from '../src/base/run.ts'
import { localStrip, newLocalStrip } from '../src/shape/localstrip.ts'
import { weighByArea } from '../src/shape/localsurface.ts'
import { makePoints, type Points } from '../src/shape/points.ts'
import { buildRowGrid } from '../src/space/rowgrid.ts'
import { cube, noisy, place } from './shapes.ts'

/** A plate of 40 x 24 as seen from above: its upper face and its edges, `thick` high; points at random, about one in each pitch squared. */
function plate(thick: number, pitch: number, sigma: number, r: Random): Points {
  const size = [40, 24, thick]
  const xyz: number[] = []
  const normals: number[] = []
  for (let axis = 0; axis < 3; axis++)
    for (const s of axis === 2 ? [1] : [0, 1]) {
      const [u, v] = [(axis + 1) % 3, (axis + 2) % 3]
      const count = Math.round((size[u] * size[v]) / pitch ** 2)
      for (let i = 0; i < count; i++) {
        const p = [0, 0, 0]
        p[axis] = s * size[axis] + sigma * r.gauss()
        p[u] = size[u] * r.next()
        p[v] = size[v] * r.next()
        xyz.push(...p)
        const n = [0, 0, 0]
        n[axis] = s ? 1 : -1
        normals.push(...n)
      }
    }
  return makePoints({ xyz: Float32Array.from(xyz), normals: Float32Array.from(normals) })
}

describe('the plane of a narrow face', () => {
  /** The edge of a sheet 1.5 thick that lies along a slanting plane, with both faces beside it. */
  const edge = async (sigma: number, seed: number, bend = 0) => {
    const r = seeded(seed)
    const xyz: number[] = []
    for (let i = 0; i < 200; i++) {
      const [x, y] = [20 * (r.next() - 0.5), 1.5 * (r.next() - 0.5)]
      xyz.push(x, y, 0.1 * x - (bend ? bend * y * y : 0) + sigma * r.gauss())
    }
    for (let i = 0; i < 800; i++) {
      const x = 20 * (r.next() - 0.5)
      xyz.push(x, (i % 2 ? 0.75 : -0.75) + sigma * r.gauss(), 0.1 * x - 6 * r.next())
    }
    return weighByArea(buildRowGrid(Float32Array.from(xyz), 3), 1, quietContext)
  }
  const s = newLocalStrip()
  test('comes back exactly, whatever stands beside it', async () => {
    localStrip(await edge(0, 5), 0.4, 0.1, 0.05, 2.2, 0, 0, 1, 0.2, s)
    // points of the faces beside lie up to the band below: they pull it down by a little
    expect(Math.abs(s.height - (0.04 - 0.05))).toBeLessThan(0.03)
    localStrip(await edge(0, 5), 0.4, 0.1, 0.04, 2.2, -0.0995, 0, 0.995, 0.001, s)
    expect(s.height).toBeCloseTo(0, 4)
    expect([s.nx / s.nz, s.ny / s.nz].map((v) => Math.round(v * 1000) / 1000 + 0)).toEqual([-0.1, 0])
    expect(s.sigma).toBeLessThan(1e-4)
    // 1.5 wide: a standard deviation of 0.43
    expect(Math.abs(s.width / (1.5 / Math.sqrt(12)) - 1)).toBeLessThan(0.25)
  })
  test('its stated variance is the true one, over many draws of noise', async () => {
    let [ss, stated] = [0, 0]
    for (let k = 0; k < 80; k++) {
      localStrip(await edge(0.02, 100 + k), 0.4, 0.1, 0.04, 2.2, -0.0995, 0, 0.995, 0.08, s)
      // against the middle of many: the faces beside pull all of them alike
      const h = s.height + 0.0025
      ss += h * h
      stated += s.leverage * s.sigma ** 2
    }
    expect(ss / stated).toBeGreaterThan(0.5)
    expect(ss / stated).toBeLessThan(2)
  })
  test('a face that bends within its width says so', async () => {
    localStrip(await edge(0.01, 7), 0.4, 0.1, 0.04, 2.2, -0.0995, 0, 0.995, 0.3, s)
    const flat = s.bend
    localStrip(await edge(0.01, 7, 0.3), 0.4, 0.1, 0.04, 2.2, -0.0995, 0, 0.995, 0.3, s)
    expect([flat < 14, s.bend > 20]).toEqual([true, true])
  })
  test('too few points determine nothing', async () => {
    localStrip(await edge(0, 5), 0.4, 0.1, 50, 2, 0, 0, 1, 0.1, s)
    expect(s.count).toBe(0)
  })
})

describe('the adjustment of a thin plate', () => {
  const views = (thick: number, off: number) => {
    const r = seeded(11)
    return [place(plate(thick, 0.6, 0.02, r), 'a'), { ...place(plate(thick, 0.6, 0.02, r), 'b'), pose: translation(off, -0.7 * off, 0) }]
  }
  test('its edges, two points wide, hold what its faces do not', async () => {
    const r = await adjustJointly(views(1.6, 0.12), {}, quietContext)
    expect(r.free).toEqual([])
    const [x, y] = [r.poses[1][3], r.poses[1][7]]
    const stated = r.passes[1].sigma
    expect(stated).toBeLessThan(0.05)
    expect(Math.hypot(x, y)).toBeLessThan(2.5 * stated)
  })
  test('edges of a single point hold nothing: the slides are named', async () => {
    const r = await adjustJointly(views(0.4, 0.12), {}, quietContext)
    expect(r.free.filter((f) => f.kind === 'slide').length + (Number.isFinite(r.passes[1].sigma) ? 0 : 1)).toBeGreaterThan(0)
  })
  test('where wide faces look every way no narrow one is taken', async () => {
    const random = seeded(4)
    const block = place(noisy(cube(30, 0.6), 0.02, random))
    const job = await prepare([block, block], {}, quietContext)
    expect([...job.match[0].surfels.scale].filter((k) => k === STRIP)).toHaveLength(0)
    const thin = await prepare(views(1.6, 0), {}, quietContext)
    expect([...thin.match[0].surfels.scale].filter((k) => k === STRIP).length).toBeGreaterThan(20)
  })
})
