import { f32 } from '../src/base/arrays.ts'
import { identity, fromQuaternion, fromRotationVector, multiply, poseDifference } from '../src/base/mat4.ts'
import { randomQuaternion, seeded } from '../src/base/random.ts'
import { quietContext } from '../src/base/run.ts'
import { alignByShape } from '../src/align/coarse.ts'
import { alignFine } from '../src/align/fine.ts'
import { adjustJointly } from '../src/align/joint.ts'
import { motionWords } from '../src/align/freemotion.ts'
import { fitRigid } from '../src/align/pairs.ts'
import { bestFit } from '../src/datum/bestfit.ts'
import { readAny } from '../src/formats/index.ts'
import { boundingBox, makePoints, type Placed, type Points } from '../src/shape/points.ts'
import type { Mesh } from '../src/shape/mesh.ts'
import { fixtureJson, fixtureSource, oakError } from './help.ts'
import { plateViews } from './shapes.ts'

describe('rigid fit against kabsch.json (SVD = Horn quaternion in 40 digits = SciPy = Open3D 0.16.1)', () => {
  const { cases } = fixtureJson('registration/kabsch.json')
  test.each(cases.map((c: any) => [c.id, c]) as [string, any][])('%s', (_id, c) => {
    const fit = fitRigid(c.source_points.flat(), c.target_points.flat(), c.weights ?? undefined)
    const { R_row_major: R, t, rms } = c.reference
    for (let i = 0; i < 3; i++) {
      for (let j = 0; j < 3; j++) expect(fit.pose[4 * i + j]).toBeCloseTo(R[3 * i + j], 9)
      // with a free scale the shift is another one: a scanner's scale is not ours to change
      if (!c.with_scale) expect(fit.pose[4 * i + 3]).toBeCloseTo(t[i], 8)
    }
    if (!c.with_scale && !c.weights) expect(fit.rms).toBeCloseTo(rms, 9)
  })
  test('a turn about the line of collinear pairs is told to be free; two pairs are too few', async () => {
    expect(fitRigid([0, 0, 0, 1, 0, 0, 5, 0, 0], [0, 0, 0, 1, 0, 0, 5, 0, 0]).turnFree).toBe(true)
    expect((await oakError(Promise.resolve().then(() => fitRigid([0, 0, 0, 1, 0, 0], [0, 0, 0, 1, 0, 0])))).code).toBe('too-few-pairs')
  })
})

describe('best fit of a noisy scan to its CAD mesh (plate_holes_dev_scan: true and least-squares pose given)', () => {
  const ref = fixtureJson('registration/plate_holes_dev_scan.json')
  const load = async () => {
    const scan = (await readAny(fixtureSource('registration/plate_holes_dev_scan.xyz'))).data as Points
    const cad = (await readAny(fixtureSource('cad/plate_holes_dev.stl'))).data as Mesh
    return { scan: { name: 'scan', data: scan, pose: identity() }, cad: { name: 'cad', data: cad, pose: identity() } }
  }
  const pose = (p: any) => {
    const m = identity()
    for (let i = 0; i < 3; i++) {
      for (let j = 0; j < 3; j++) m[4 * i + j] = p.R_row_major[3 * i + j]
      m[4 * i + 3] = p.t[i]
    }
    return m
  }
  test('plain least squares gives the published pose and rms', async () => {
    const { scan, cad } = await load()
    const r = await bestFit(scan, cad, { robust: false, reach: 15 }, quietContext)
    const d = poseDifference(r.pose, pose(ref.point_to_plane_least_squares_pose), boundingBox(scan.data.xyz))
    expect(d.max).toBeLessThan(2e-3)
    expect(r.rms).toBeCloseTo(ref.point_to_plane_least_squares_pose.rms_mm, 4)
    expect(r.free).toEqual([])
  })
  test('from any start pose, by shape first, robust: within 0.005 mm of the truth', async () => {
    const { scan, cad } = await load()
    const away = fromQuaternion([0.2, -0.7, 0.3, 0.6], [300, -80, 40])
    const r = await bestFit({ ...scan, pose: away }, cad, { byShape: true }, quietContext)
    expect(poseDifference(r.pose, pose(ref.true_pose_scan_to_cad), boundingBox(scan.data.xyz)).max).toBeLessThan(0.01)
    expect(r.ambiguous).toBe(false)
  })
  test('nothing within reach is said', async () => {
    const { scan, cad } = await load()
    const far = { ...scan, pose: fromRotationVector(0, 0, 0, 5000, 0, 0) }
    expect((await oakError(bestFit(far, cad, {}, quietContext))).code).toBe('no-contact')
  })
})

describe('alignment of simulated passes against their true poses', () => {
  test('joint adjustment from 1 mm off comes to a few micrometres, and predicts its error', async () => {
    const views = await plateViews(6, 0.02, 0.5)
    const random = seeded(2)
    const off = views.map((v, i) => ({
      ...v,
      pose:
        i === 0
          ? identity()
          : fromRotationVector(0.006 * random.gauss(), 0.006 * random.gauss(), 0.006 * random.gauss(), random.gauss(), random.gauss(), random.gauss()),
    }))
    const r = await adjustJointly(off, {}, quietContext)
    const errors = r.poses.map((p, i) => poseDifference(p, identity(), boundingBox(views[i].data.xyz)).rms)
    expect(Math.max(...errors)).toBeLessThan(0.012)
    expect(r.error).toBeGreaterThan(Math.max(...errors) / 5)
    expect(r.error).toBeLessThan(0.02)
    expect(r.apart).toEqual([])
    expect(r.passes.every((p) => p.free.length === 0)).toBe(true)
    // the anchor stays put
    expect(poseDifference(r.poses[0], off[0].pose, boundingBox(views[0].data.xyz)).max).toBe(0)
  })
  test('by shape from any pose, then fine', async () => {
    const [a, b] = await plateViews(2)
    const start = fromQuaternion(randomQuaternion(seeded(11)), [200, -50, 90])
    const rough = await alignByShape([a], [{ ...b, pose: start }], {}, quietContext)
    const pose = multiply(rough.pose, start)
    expect(poseDifference(pose, identity(), boundingBox(b.data.xyz)).max).toBeLessThan(3)
    const fine = await alignFine([a], [{ ...b, pose }], {}, quietContext)
    const end = poseDifference(multiply(fine.move, pose), identity(), boundingBox(b.data.xyz))
    expect(end.rms).toBeLessThan(0.01)
    expect(end.angleDeg).toBeLessThan(0.01)
  })
  test('upper side and underside that share walls only: level stays where it was, and is told to be free', async () => {
    // a slab with sharp edges, seen from four sides from above, and from below
    const [lo, hi, r] = [[-60, -40, 0], [60, 40, 12], 0.01]
    const look = (view: [number, number, number], seed: number): Placed<Points> => {
      const random = seeded(seed)
      const xyz: number[] = []
      while (xyz.length < 3 * 30_000) {
        const q = lo.map((l, k) => l + (hi[k] - l) * random.next())
        const axis = Math.floor(3 * random.next())
        // walls as densely as faces
        q[axis] = random.next() < 0.5 ? lo[axis] : hi[axis]
        const c = q.map((v, k) => Math.min(hi[k] - r, Math.max(lo[k] + r, v)))
        const d = q.map((v, k) => v - c[k])
        const l = Math.hypot(d[0], d[1], d[2])
        const p = c.map((v, k) => v + (r * d[k]) / l + 0.01 * random.gauss())
        if (d.reduce((s, v, k) => s + v * (view[k] - p[k]), 0) > 0) xyz.push(...p)
      }
      return { name: `view ${seed}`, data: makePoints({ xyz: f32(xyz.length).map((_, i) => xyz[i]), viewpoint: view }), pose: identity() }
    }
    const around = (z: number, seed: number) =>
      [
        [300, 80],
        [-300, 60],
        [70, 300],
        [-60, -300],
      ].map(([x, y], k) => look([x, y, z], seed + k))
    const start = fromRotationVector(0.004, -0.003, 0.004, 0.8, -0.6, 0.7)
    const under = around(-250, 20).map((p) => ({ ...p, pose: start }))
    // recorded roughly: the upper views disagree by a millimetre and half a degree
    const r2 = seeded(3)
    const small = () => 0.01 * r2.gauss()
    const upper = around(260, 10).map((p, k) => (k ? { ...p, pose: fromRotationVector(small(), small(), small(), r2.gauss(), r2.gauss(), r2.gauss()) } : p))
    const fine = await alignFine(upper, under, {}, quietContext)
    const end = multiply(fine.move, start)
    expect(Math.abs(end[11])).toBeLessThan(1.5)
    expect(Math.hypot(end[3], end[7])).toBeLessThan(0.8)
    expect(fine.joint.passes[4].free.map(motionWords)).toContain('slide along z')
    expect(fine.joint.passes[4].sigma).toBe(Infinity)
  })
  test('a flat plate: two slides and a turn are reported free, and nothing drifts', async () => {
    const flat = (seed: number): Placed<Points> => {
      const r = seeded(seed)
      return {
        name: `flat ${seed}`,
        data: makePoints({ xyz: f32(3 * 40000).map((_, i) => (i % 3 === 2 ? 0.02 * r.gauss() : 60 * r.next())), viewpoint: [30, 30, 400] }),
        pose: identity(),
      }
    }
    const moved = { ...flat(2), pose: fromRotationVector(0.002, 0.001, 0, 0.3, 0.2, 0.4) }
    const r = await adjustJointly([flat(1), moved], {}, quietContext)
    expect(r.passes[1].free.map((f) => f.kind).sort()).toEqual(['slide', 'slide', 'turn'])
    expect(r.passes[1].free.map(motionWords)).toContain('turn about z')
    expect(r.passes[1].sigma).toBe(Infinity)
    // nothing is held: the error is unknown, not zero
    expect(r.error).toBe(Infinity)
    expect(Math.abs(r.poses[1][11])).toBeLessThan(0.05)
    expect(Math.hypot(r.poses[1][3] - 0.3, r.poses[1][7] - 0.2)).toBeLessThan(0.1)
  })
  test('passes that share no surface, and a single pass, are told apart', async () => {
    const [a, b] = await plateViews(2)
    expect((await oakError(adjustJointly([a], {}, quietContext))).code).toBe('one-pass')
    const away = { ...b, pose: fromRotationVector(0, 0, 0, 1000, 0, 0) }
    expect((await oakError(adjustJointly([a, away], {}, quietContext))).code).toBe('no-overlap')
    const r = await adjustJointly([a, b, { ...b, name: 'lost', pose: fromRotationVector(0, 0, 0, 1000, 0, 0) }], {}, quietContext)
    expect(r.apart).toEqual([2])
  })
  test('a ball cannot be aligned by shape: it says so', async () => {
    const random = seeded(5)
    const ball = (): Points => {
      const xyz = f32(3 * 20000)
      const normals = f32(3 * 20000)
      for (let i = 0; i < xyz.length; i += 3) {
        const v = [random.gauss(), random.gauss(), random.gauss()]
        const l = Math.hypot(...v)
        for (let k = 0; k < 3; k++) {
          normals[i + k] = v[k] / l
          xyz[i + k] = (30 * v[k]) / l
        }
      }
      return makePoints({ xyz, normals })
    }
    const a = { name: 'a', data: ball(), pose: identity() }
    const b = { name: 'b', data: ball(), pose: fromRotationVector(0.5, 0.2, 0.1, 10, 0, 0) }
    const r = await alignByShape([a], [b], {}, quietContext)
    // it lies on the ball, and all three turns are told to be a guess
    expect(r.free.map((f) => f.kind)).toEqual(['turn', 'turn', 'turn'])
  })
  test('cancelling ends it with a clear word', async () => {
    const views = await plateViews(2)
    const e = await oakError(adjustJointly(views, {}, { ...quietContext, signal: { aborted: true } }))
    expect(e.code).toBe('cancelled')
  })
})
