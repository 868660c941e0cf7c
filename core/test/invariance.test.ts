import { beforeAll, describe, expect, test } from '@jest/globals'
import { f32 } from '../src/base/arrays.ts'
import {
  fromRotationVector,
  identity,
  invertRigid,
  multiply,
  poseDifference,
  transformArray,
  transformPoint,
  translation,
  type Mat4,
} from '../src/base/mat4.ts'
import { quietContext } from '../src/base/run.ts'
import { adjustJointly } from '../src/align/joint.ts'
import type { JointResult } from '../src/align/jointreport.ts'
import { boundingBox, makePoints, type Placed, type Points } from '../src/shape/points.ts'
import { spacingIn } from '../src/shape/spacing.ts'
import { buildRowGrid } from '../src/space/rowgrid.ts'
import { plateViews } from './shapes.ts'

/** A pose in other units. */
const inUnits = (m: Mat4, k: number) => Float64Array.from(m, (v, i) => (i % 4 === 3 && i < 12 ? k * v : v))

describe('the same data in other clothes', () => {
  let views: Placed<Points>[]
  let known: JointResult
  beforeAll(async () => {
    const moved = fromRotationVector(0.002, -0.001, 0.0015, 0.2, 0.1, -0.15)
    views = (await plateViews(3)).map((v, i) => (i ? { ...v, pose: moved } : v))
    known = await adjustJointly(views, {}, quietContext)
  }, 60_000)

  /** The views scaled, turned within their own coordinates (the poses turn them back), and with a stray; gives how far apart the results are, against the stated error. */
  async function apart(what: { scale?: number; inside?: Mat4; frame?: Mat4; stray?: boolean }): Promise<number> {
    const { scale: k = 1, inside = identity(), frame = identity() } = what
    const dressed = views.map((v): Placed<Points> => {
      const n = v.data.xyz.length
      const xyz = f32(n + (what.stray ? 3 : 0))
      xyz.set(transformArray(inside, v.data.xyz, f32(n)).map((c) => k * c))
      if (what.stray) xyz.set([10_000, 0, 0], n)
      const [x, y, z] = v.data.viewpoint as [number, number, number]
      return {
        name: v.name,
        data: makePoints({ xyz, viewpoint: transformPoint(inside, x, y, z).map((c) => k * c) as [number, number, number] }),
        pose: inUnits(multiply(frame, multiply(v.pose, invertRigid(inside))), k),
      }
    })
    const r = await adjustJointly(dressed, {}, quietContext)
    return Math.max(
      ...r.poses.map((p, i) => {
        if (i === 0) return 0
        const back = multiply(invertRigid(frame), multiply(inUnits(p, 1 / k), inside))
        // what is stated goes along
        expect(Math.abs(r.passes[i].sigma / k / known.passes[i].sigma - 1)).toBeLessThan(0.05)
        return poseDifference(known.poses[i], back, boundingBox(views[i].data.xyz)).rms / known.passes[i].sigma
      }),
    )
  }

  test.each([
    ['in micrometres', { scale: 1000 }, 0.005],
    ['in metres', { scale: 0.001 }, 0.005],
    ['ten metres away', { frame: translation(10_000, -4000, 300) }, 1e-6],
    ['turned as a whole', { frame: fromRotationVector(0.4, 1.1, -0.7) }, 1e-6],
    ['turned within its file', { inside: fromRotationVector(0.4, 1.1, -0.7) }, 0.02],
    ['with a stray ten metres off', { stray: true }, 0.005],
  ] as [string, Parameters<typeof apart>[0], number][])(
    '%s: the result is the same, to a small part of its error',
    async (_name, what, limit) => {
      expect(await apart(what)).toBeLessThan(limit)
    },
    60_000,
  )

  test('the spacing of points does not hang on how the rows lie, nor on a stray', () => {
    const { xyz } = views[0].data
    const one = spacingIn(buildRowGrid(xyz, 1.5))
    expect(spacingIn(buildRowGrid(xyz, 3))).toBe(one)
    const turned = transformArray(fromRotationVector(0.4, 1.1, -0.7), xyz, f32(xyz.length))
    expect(spacingIn(buildRowGrid(turned, 1.5))).toBeCloseTo(one, 4)
    const more = f32(xyz.length + 3)
    more.set(xyz)
    more.set([1e4, 1e4, 0], xyz.length)
    expect(spacingIn(buildRowGrid(more, 1.5))).toBeCloseTo(one, 3)
    // the raster is 0.35 mm; slanted faces are seen a little further apart
    expect(one).toBeGreaterThan(0.35)
    expect(one).toBeLessThan(0.5)
    expect(spacingIn(buildRowGrid(f32(6), 1))).toBe(0)
  })
})
