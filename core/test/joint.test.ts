import { describe, expect, test } from '@jest/globals'
import { adjustJointly } from '../src/align/joint.ts'
import { correlationOf } from '../src/align/correlation.ts'
import { motionWords } from '../src/align/freemotion.ts'
import { MATCH, type Matches } from '../src/align/match.ts'
import { gaps, normalEquations } from '../src/align/normalequations.ts'
import { addPrior, departure, makePrior, type PassHeld } from '../src/align/prior.ts'
import { applyStep, type Unknowns } from '../src/align/unknowns.ts'
import { weakModes, withoutWeak } from '../src/align/weakmodes.ts'
import { f32 } from '../src/base/arrays.ts'
import { jacobiEigen } from '../src/base/eigen.ts'
import { fromRotationVector, identity, invertRigid, multiply, rotationVector, transformPoint, translation } from '../src/base/mat4.ts'
import { seeded } from '../src/base/random.ts'
import { quietContext } from '../src/base/run.ts'
import { cholesky, choleskySolve } from '../src/base/solve.ts'
import { runOperation } from '../src/operations/registry.ts'
import { makePoints, type Placed, type Points } from '../src/shape/points.ts'
import { oakError } from './help.ts'
import { plateViews } from './shapes.ts'

/** Matches between three passes on the faces of a cube, exact at the given poses, with `noise` along the normals. */
function cubeMatches(poses: Float64Array[], noise = 0, axes = 3): Matches[] {
  const r = seeded(3)
  return [
    [0, 1],
    [1, 2],
    [0, 2],
  ].map(([a, b]) => {
    const count = 300
    const data = new Float64Array(count * MATCH)
    for (let i = 0; i < count; i++) {
      const axis = i % axes
      const p = [0, 1, 2].map(() => 20 * (r.next() - 0.5))
      p[axis] = i % 2 ? 10 : -10
      const n = [0, 0, 0]
      n[axis] = i % 2 ? 1 : -1
      const put = (pose: Float64Array, o: number, off: number) => {
        const back = invertRigid(pose)
        const q = p.map((v, k) => v + off * n[k])
        data.set(transformPoint(back, q[0], q[1], q[2]), i * MATCH + o)
        const zero = transformPoint(back, 0, 0, 0)
        data.set(
          transformPoint(back, n[0], n[1], n[2]).map((v, k) => v - zero[k]),
          i * MATCH + o + 3,
        )
      }
      put(poses[a], 0, noise * r.gauss())
      put(poses[b], 6, noise * r.gauss())
      data[i * MATCH + 12] = noise ? 1 / (2 * noise * noise) : 1
      data[i * MATCH + 13] = 1
    }
    return { a, b, data, count }
  })
}
const truth = [identity(), fromRotationVector(0.1, -0.2, 0.3, 5, 6, 7), fromRotationVector(-0.4, 0.1, 0.2, -8, 1, 2)]
const unknowns = (): Unknowns => ({
  slotOf: Int32Array.of(-1, 0, 1),
  count: 2,
  centre: Float64Array.of(1, 2, 3, -2, 0, 4),
  lever: Float64Array.of(9, 12),
})

describe('equations of the joint adjustment', () => {
  test('gaps are what the poses are off, in mm', () => {
    const all = cubeMatches(truth)
    expect(Math.max(...gaps(all, truth).map(Math.abs))).toBeLessThan(1e-12)
    const lifted = [truth[0], truth[1], multiply(translation(0, 0, 0.25), truth[2])]
    const r = gaps(all, lifted)
    // pair 0-1 does not feel it, the others by the normal's z
    expect(Math.max(...r.subarray(0, 300).map(Math.abs))).toBeLessThan(1e-12)
    expect(Math.max(...r.subarray(300).map(Math.abs))).toBeCloseTo(0.25, 9)
  })
  test('Gauss-Newton comes back from a degree and a millimetre off in a few steps', async () => {
    const all = cubeMatches(truth)
    const poses = [
      truth[0],
      multiply(fromRotationVector(0.01, 0.005, -0.012, 0.5, -0.4, 0.3), truth[1]),
      multiply(fromRotationVector(-0.008, 0.011, 0.006, -0.6, 0.2, 0.7), truth[2]),
    ]
    const u = unknowns()
    let largest = Infinity
    for (let k = 0; k < 8; k++) {
      const { h, g, size } = await normalEquations(all, poses, u, 100, quietContext)
      largest = applyStep(u, choleskySolve(cholesky(h, size) as Float64Array, g, size), poses)
    }
    expect(largest).toBeLessThan(1e-9)
    for (const i of [1, 2]) for (let k = 0; k < 12; k++) expect(poses[i][k]).toBeCloseTo(truth[i][k], 6)
  })
  test('their matrix is the sum of squares of numerical derivatives', async () => {
    const all = cubeMatches(truth)
    const u = unknowns()
    const { h } = await normalEquations(all, truth, u, 1e9, quietContext)
    const e = 1e-6
    const at = (k: number, sign: number) => {
      const p = truth.map((q) => Float64Array.from(q))
      const step = new Float64Array(12)
      // applyStep moves by minus the step
      step[k] = -sign * e
      applyStep(u, step, p)
      return gaps(all, p)
    }
    const J = Array.from({ length: 12 }, (_, k) => {
      const [plus, minus] = [at(k, 1), at(k, -1)]
      return plus.map((v, i) => (v - minus[i]) / (2 * e))
    })
    for (let a = 0; a < 12; a++)
      for (let b = 0; b < 12; b++) {
        const want = J[a].reduce((s, v, i) => s + v * J[b][i], 0)
        expect(Math.abs(h[12 * a + b] - want)).toBeLessThan(1e-3 * 300)
      }
  })
  test('motions that surface does not hold are found for the whole system: two faces of a cube leave slides of both passes', async () => {
    const noise = 0.01
    const held = await normalEquations(cubeMatches(truth, noise, 3), truth, unknowns(), 1e9, quietContext)
    expect(weakModes(held.h, held.noise, held.size).count).toBe(0)
    const level = await normalEquations(cubeMatches(truth, noise, 1), truth, unknowns(), 1e9, quietContext)
    const weak = weakModes(level.h, level.noise, level.size)
    // of each of the two passes two slides and a turn
    expect(weak.count).toBe(6)
    const g = Float64Array.from({ length: 12 }, (_, i) => Math.sin(i))
    withoutWeak(g, weak)
    for (let c = 0; c < weak.count; c++) {
      let along = 0
      for (let i = 0; i < 12; i++) along += weak.vectors[i * weak.count + c] * g[i]
      expect(Math.abs(along)).toBeLessThan(1e-9)
    }
  })
  test('of a large system the lowest motions are those of all eigenvectors', () => {
    const size = 96
    const r = seeded(8)
    const b = Float64Array.from({ length: size * size }, () => r.gauss())
    const h = new Float64Array(size * size)
    const n = new Float64Array(size * size)
    // eigenvalues 1, 1, 1, 400 and up in a random basis
    const q = jacobiEigen(
      Float64Array.from({ length: size * size }, (_, i) => b[i] + b[(i % size) * size + Math.floor(i / size)]),
      size,
    ).vectors
    for (let k = 0; k < size; k++)
      for (let i = 0; i < size; i++) for (let j = 0; j < size; j++) h[i * size + j] += (k < 3 ? 1 : 400 + 5 * k) * q[i * size + k] * q[j * size + k]
    for (let i = 0; i < size; i++) n[i * size + i] = 1
    const weak = weakModes(h, n, size)
    expect(weak.count).toBe(3)
    for (const v of weak.holds) expect(v).toBeCloseTo(1, 3)
  })
})

describe('recorded poses as evidence', () => {
  test('passes that sit as recorded depart by nothing, however their setup was moved; one that does not, by what it is off', () => {
    const poses = [0, 1, 2].map((i) => fromRotationVector(0.1 * i, 0, 0, 3 * i, 0, 0))
    const p = makePrior([7, 7, 7], 0, poses, 0.1, null, new Float64Array(9), [10, 10, 10])
    const moved = multiply(fromRotationVector(0, 0, 0.3, 40, 0, 0), identity())
    p.frames[0] = moved
    const d = new Float64Array(6)
    departure(p, 1, multiply(moved, poses[1]), [0, 0, 0], 10, d)
    expect(Math.max(...d.map(Math.abs))).toBeLessThan(1e-9)
    departure(p, 1, multiply(translation(0, 0.2, 0), multiply(moved, poses[1])), [0, 0, 0], 10, d)
    expect([...d].map((v) => Math.round(v * 1e9) / 1e9)).toEqual([0, 0, 0, 0, 0.2, 0])
  })
  test('its equations pull a pass back to where it was recorded, and hold no motion of the whole setup', () => {
    const poses = [identity(), translation(1, 0, 0)]
    const u: Unknowns = { slotOf: Int32Array.of(0, 1), count: 2, centre: new Float64Array(6), lever: Float64Array.of(5, 5) }
    const p = makePrior([0, 0], 0, poses, 0.5, null, new Float64Array(6), [5, 5])
    const h = new Float64Array(18 * 18)
    const g = new Float64Array(18)
    addPrior(p, u, [poses[0], multiply(translation(0, 0, 0.1), poses[1])], new Float64Array(6), [5, 5], h, g)
    expect(g[6 + 5]).toBeCloseTo(0.1 / 0.25, 9)
    expect(g[12 + 5]).toBeCloseTo(-0.1 / 0.25, 9)
    // all by one millimetre along z, the frame too
    const all = new Float64Array(18)
    for (const s of [5, 11, 17]) all[s] = 1
    let energy = 0
    for (let i = 0; i < 18; i++) for (let j = 0; j < 18; j++) energy += all[i] * h[i * 18 + j] * all[j]
    expect(energy).toBeCloseTo(0, 9)
  })
  test('a pass that is held unevenly is pulled by how well it is known along each of its own axes', () => {
    // well along its own x, which lies along y of the job; about a place beside its middle
    const pose = fromRotationVector(0, 0, Math.PI / 2, 30, 0, 0)
    const held = (about: number[]): PassHeld => ({
      about,
      covariance: Array.from({ length: 36 }, (_, k) => (k % 7 ? 0 : [0.001, 0.001, 0.002, 0.01, 0.2, 0.05][k / 7] ** 2)),
    })
    const equations = (about: number[], off: Float64Array) => {
      const p = makePrior([0, 0], 0, [identity(), pose], 0.5, null, Float64Array.of(0, 0, 0, 30, 0, 0), [5, 5], [null, held(about)])
      const u: Unknowns = { slotOf: Int32Array.of(-1, 0), count: 1, centre: Float64Array.of(30, 0, 0), lever: Float64Array.of(5) }
      const g = new Float64Array(6 + 6)
      addPrior(p, u, [identity(), multiply(off, pose)], Float64Array.of(0, 0, 0, 30, 0, 0), [5, 5], new Float64Array(144), g)
      return g
    }
    expect(equations([0, 0, 0], translation(0, 0.1, 0))[4]).toBeCloseTo(0.1 / 0.01 ** 2, 6)
    expect(equations([0, 0, 0], translation(0.1, 0, 0))[3]).toBeCloseTo(0.1 / 0.2 ** 2, 6)
    // turned about a place 100 mm beside its middle, that goes along, and nothing pulls it back but the turn
    const place = [-70, 0, 0]
    const turned = multiply(translation(-70, 0, 0), multiply(fromRotationVector(0, 0, 1e-4), translation(70, 0, 0)))
    expect(transformPoint(pose, 0, 100, 0).map((v) => Math.round(v))).toEqual(place)
    expect(equations([0, 100, 0], turned)[4]).toBeCloseTo(0, 3)
    expect(equations([0, 0, 0], turned)[4]).toBeCloseTo((100 * 1e-4) / 0.01 ** 2, 1)
  })
  test('the rotation vector of a pose is what it was made of', () => {
    for (const v of [
      [0, 0, 0],
      [1e-9, 0, 0],
      [0.3, -0.2, 0.9],
      [0, 3, 0],
    ] as [number, number, number][])
      rotationVector(fromRotationVector(...v)).forEach((x, k) => expect(x).toBeCloseTo(v[k], 9))
  })
})

describe('how alike gaps are', () => {
  test('independent ones are not, whatever the distance; smooth ones are, and less with distance', async () => {
    const independent = await correlationOf(cubeMatches(truth, 0.01), truth, 2, 8, quietContext)
    expect(independent.variance).toBeGreaterThan(0.85)
    expect(independent.variance).toBeLessThan(1.25)
    expect(Math.max(...independent.value)).toBeLessThan(0.3)
    const smooth = cubeMatches(truth, 0.01)
    for (const m of smooth)
      for (let i = 0; i < m.count; i++) {
        const o = i * MATCH
        const p = transformPoint(truth[m.a], m.data[o], m.data[o + 1], m.data[o + 2])
        // a ripple of 25 mm along x + y + z
        const e = 0.03 * Math.sin(((p[0] + p[1] + p[2]) * 2 * Math.PI) / 25)
        for (let k = 0; k < 3; k++) m.data[o + k] += e * m.data[o + 3 + k]
      }
    const c = await correlationOf(smooth, truth, 2, 8, quietContext)
    expect(c.value[0]).toBeGreaterThan(1)
    for (let k = 1; k < c.value.length; k++) expect(c.value[k]).toBeLessThanOrEqual(c.value[k - 1] + 1e-12)
  })
})

/** Both faces of a sheet, one pass on each side, as far apart as it is thick. */
function sheet(thickness: number): Placed<Points>[] {
  const r = seeded(4)
  return [1, -1].map((side) => {
    const xyz = f32(3 * 12_000)
    for (let i = 0; i < xyz.length; i += 3) {
      const [x, y] = [60 * r.next(), 40 * r.next()]
      xyz.set([x, y, 2 * Math.sin(x / 9) * Math.cos(y / 7) + (side * thickness) / 2 + 0.01 * r.gauss()], i)
    }
    return { name: `${side}`, data: makePoints({ xyz, viewpoint: [30, 20, side * 400] }), pose: identity() }
  })
}

describe('what used to come out wrong with a confident face', () => {
  test.each([0.2, 1, 2])('the faces of a sheet of %p mm are never laid on one another', async (thickness) => {
    const e = await oakError(adjustJointly(sheet(thickness), {}, quietContext))
    expect(e.code).toBe('no-overlap')
  })
  test('one setup of passes over a flat plate: held by the record, and the error says so', async () => {
    const flat = (seed: number, off: Float64Array): Placed<Points> => {
      const r = seeded(seed)
      return {
        name: `${seed}`,
        data: makePoints({ xyz: f32(3 * 15_000).map((_, i) => (i % 3 === 2 ? 0.02 * r.gauss() : 60 * r.next())), viewpoint: [30, 30, 400] }),
        pose: off,
        setup: 'one',
      }
    }
    const passes = [flat(1, identity()), flat(2, translation(0.05, -0.03, 0.06)), flat(3, translation(-0.04, 0.02, -0.05))]
    const r = await adjustJointly(passes, { setups: [0, 0, 0] }, quietContext)
    expect(r.free).toEqual([])
    for (const p of r.passes.slice(1)) {
      expect(p.sigma).toBeGreaterThan(0.02)
      expect(p.sigma).toBeLessThan(0.5)
    }
    // what shape alone held has axes of its own: that it was recorded in the same setup says nothing of where it lies
    const own = { about: [0, 0, 0], covariance: null }
    const adjusted = (held: (typeof own | null)[]) =>
      runOperation('adjust', { passes: passes.map((p) => ({ ...p, pose: identity() })) }, { held }, quietContext)
    expect((await oakError(adjusted([null, own, own]))).code).toBe('not-together')
    expect((await adjusted([null, null, null])).outputs['passes'].length).toBe(3)
    // across the plate surface tells, along it the record does
    expect(Math.abs(r.poses[1][11])).toBeLessThan(0.005)
    expect(Math.hypot(r.poses[1][3] - 0.05, r.poses[1][7] + 0.03)).toBeLessThan(0.05)
  })
  /** Of a view of the plate nothing but its level top. */
  const topOnly = (p: Placed<Points>): Placed<Points> => {
    const keep: number[] = []
    for (let i = 0; i < p.data.xyz.length; i += 3) if (p.data.xyz[i + 2] > 9 && p.data.xyz[i] > 10 && p.data.xyz[i] < 90) keep.push(i)
    const xyz = f32(3 * keep.length)
    keep.forEach((o, k) => xyz.set(p.data.xyz.subarray(o, o + 3), 3 * k))
    return { ...p, data: makePoints({ ...p.data, xyz }) }
  }
  test('what surface leaves open is held by the passes whose frames were held well', async () => {
    const views = await plateViews(3, 0.02, 0.5)
    const r = seeded(5)
    const sheet = f32(3 * 15_000).map((_, i) => (i % 3 === 2 ? 10 + 0.02 * r.gauss() : i % 3 ? 10 + 40 * r.next() : 15 + 70 * r.next()))
    const level: Placed<Points> = { name: 'level', data: makePoints({ xyz: sheet, viewpoint: [50, 30, 230] }), pose: identity() }
    // one setup, of which a pass was recorded 0.4 mm aside; where the level one lies along the plate's top, only the record tells
    const passes = [views[0], { ...views[1], pose: translation(0.4, 0, 0) }, views[2], level]
    const held = (mm: number): PassHeld => ({
      about: [50, 30, 10],
      covariance: Array.from({ length: 36 }, (_, k) => (k % 7 ? 0 : k < 21 ? (mm / 60) ** 2 : mm * mm)),
    })
    const setups = [0, 1, 1, 1]
    const plain = await adjustJointly(passes, { setups }, quietContext)
    const told = await adjustJointly(passes, { setups, held: [null, held(0.4), held(0.01), held(0.01)] }, quietContext)
    const off = (r: typeof plain) => Math.hypot(r.poses[3][3], r.poses[3][7])
    // torn in two between both of its fellows; and with the one that knew
    expect(off(plain)).toBeGreaterThan(0.1)
    expect(off(told)).toBeLessThan(0.03)
    for (const found of [plain, told]) expect(off(found)).toBeLessThan(3 * found.passes[3].sigma)
    expect([told.passes[1].departed, told.passes[2].departed].every((d) => d < 5)).toBe(true)
  })
  test('a group that hangs on one level face is named as a group', async () => {
    const views = await plateViews(4, 0.02, 0.5)
    // the last two share with the first two nothing but the level top
    const r = await adjustJointly([views[0], views[1], topOnly(views[2]), topOnly(views[3])], { setups: [0, 0, 1, 1] }, quietContext)
    // whatever is free is free for both passes of the second setup together
    for (const f of r.free) expect(f.passes).toEqual([2, 3])
    for (const i of [2, 3]) expect(r.passes[i].sigma === Infinity).toBe(r.free.length > 0)
  })
  test.each([1e-3, 1, 1e3])('scaled by %p, turned, 10 m away and with a stray far off: the result goes along', async (factor) => {
    const views = await plateViews(3, 0.02, 0.5)
    const off = views.map((v, i) => ({ ...v, pose: translation(0.2 * i, -0.1 * i, 0.15 * i) }))
    const plain = await adjustJointly(off, {}, quietContext)
    const turn = fromRotationVector(0.4, -0.7, 1.1)
    const scaled = off.map((v, i): Placed<Points> => {
      const n = v.data.xyz.length + (i === 1 ? 3 : 0)
      const xyz = f32(n)
      for (let k = 0; k < v.data.xyz.length; k++) xyz[k] = v.data.xyz[k] * factor
      if (i === 1) xyz.set([1e4 * factor, -3e3 * factor, 500 * factor], n - 3)
      const at = v.data.viewpoint as readonly [number, number, number]
      const pose = Float64Array.from(v.pose)
      for (const k of [3, 7, 11]) pose[k] *= factor
      const away = translation(1e4 * factor, 2e3 * factor, -5e3 * factor)
      return { ...v, data: makePoints({ xyz, viewpoint: [at[0] * factor, at[1] * factor, at[2] * factor] }), pose: multiply(away, multiply(turn, pose)) }
    })
    const r = await adjustJointly(scaled, {}, quietContext)
    expect(r.error / factor / plain.error).toBeGreaterThan(0.8)
    expect(r.error / factor / plain.error).toBeLessThan(1.25)
    expect(r.free).toEqual([])
    // where pass 2 lies on pass 0, against the same of the plain run
    const relative = (poses: Float64Array[]) => multiply(invertRigid(poses[0]), poses[2])
    const [a, b] = [relative(plain.poses), relative(r.poses)]
    for (const k of [3, 7, 11]) expect(Math.abs(b[k] / factor - a[k])).toBeLessThan(0.5 * plain.error)
  })
  test('setups that were never brought together are not moved onto one another', async () => {
    const views = await plateViews(4, 0.02, 0.5)
    const away = multiply(fromRotationVector(2.1, 0.4, -1), translation(14, 9, 30))
    const apart = views.map((v, i) => (i < 2 ? v : { ...v, pose: away }))
    try {
      const r = await adjustJointly(apart, { setups: [0, 0, 1, 1] }, quietContext)
      for (const i of [2, 3]) expect(r.passes[i].sigma).toBe(Infinity)
    } catch (e) {
      expect(['no-overlap', 'not-together']).toContain((e as { code: string }).code)
    }
  })
  test('a pass that lies far from where it was recorded is named, where the tracking error is known', async () => {
    const views = (await plateViews(4, 0.02, 0.5)).map((v, i) => ({ ...v, pose: i === 2 ? translation(0, 0, 0.6) : identity(), setup: 'one' }))
    const r = await runOperation('adjust', { passes: views }, { tracking: 0.05 }, quietContext)
    expect(r.evidence.warnings.filter((w) => w.includes('tracking'))).toHaveLength(1)
    expect(r.evidence.warnings.join()).toMatch(/^view 2 left the place/)
  })
  test('words of free motions', () => {
    const t = Math.SQRT1_2
    expect([
      motionWords({ kind: 'slide', axis: [0, 0, 1] }),
      motionWords({ kind: 'turn', axis: [0.95, 0.31, 0] }),
      motionWords({ kind: 'screw', axis: [t, t, 0] }),
    ]).toEqual(['slide along z', 'turn about a line near x', 'screw about a slanting line'])
  })
})
