import { describe, expect, test } from '@jest/globals'
import { freedoms, type Freedom } from '../src/align/freedom.ts'
import { motionsIn, motionWords } from '../src/align/freemotion.ts'
import { adjustJointly } from '../src/align/joint.ts'
import { fromRotationVector, identity, multiply, poseDifference, translation } from '../src/base/mat4.ts'
import { seeded } from '../src/base/random.ts'
import { quietContext } from '../src/base/run.ts'
import { boundingBox, type Placed, type Points } from '../src/shape/points.ts'
import { oakError } from './help.ts'
import { cube, noisy, place, plateViews, shaft, sphere } from './shapes.ts'

/** The 6x6 of all points of a surface about the origin, lengths divided by `radius`. */
function matrixOf(p: Points, radius: number): { jtj: Float64Array; weight: number } {
  const jtj = new Float64Array(36)
  const normals = p.normals as Float32Array
  for (let i = 0; i < p.xyz.length; i += 3) {
    const [x, y, z] = [p.xyz[i] / radius, p.xyz[i + 1] / radius, p.xyz[i + 2] / radius]
    const [nx, ny, nz] = normals.subarray(i, i + 3)
    const row = [y * nz - z * ny, z * nx - x * nz, x * ny - y * nx, nx, ny, nz]
    for (let a = 0; a < 6; a++) for (let b = 0; b < 6; b++) jtj[6 * a + b] += row[a] * row[b]
  }
  return { jtj, weight: p.xyz.length / 3 }
}
const freeOf = (p: Points, radius: number) => {
  const { jtj, weight } = matrixOf(p, radius)
  return freedoms(jtj, weight, radius).filter((f) => f.free)
}
const motions = (list: Freedom[], radius: number) =>
  motionsIn(
    list.map((f) => [...f.rotation.map((v) => v * radius), ...f.translation]),
    [0, 0, 0],
    radius,
  )
const words = (list: Freedom[], radius: number) => motions(list, radius).map(motionWords).sort()

describe('which motions a surface does not hold (Gelfand 2003: slippable motions of elementary surfaces)', () => {
  const centred = (p: Points, z: number): Points => ({ ...p, xyz: p.xyz.map((v, i) => (i % 3 === 2 ? v - z : v)) })
  test('a shaft: turn and slide along its axis', () => {
    expect(words(freeOf(centred(shaft(10, 40, 1), 20), 20), 20)).toEqual(['slide along z', 'turn about z'])
  })
  test('a ball: three turns, and nothing else', () => {
    const free = freeOf(sphere(15, 1), 15)
    expect(free).toHaveLength(3)
    expect(motions(free, 15).map((m) => m.kind)).toEqual(['turn', 'turn', 'turn'])
  })
  test('one level face: two slides and a turn', () => {
    const face = cube(20, 1)
    const first = { ...face, xyz: face.xyz.slice(0, 1200).map((v, i) => v - [0, 10, 10][i % 3]), normals: (face.normals as Float32Array).slice(0, 1200) }
    const free = words(freeOf(first, 10), 10)
    expect(free).toHaveLength(3)
    expect(free.filter((w) => w.startsWith('slide'))).toHaveLength(2)
    expect(free.at(-1)).toBe('turn about x')
  })
  test('a whole cube: nothing is free', () => {
    const p = cube(20, 1)
    expect(freeOf({ ...p, xyz: p.xyz.map((v) => v - 10) }, 10)).toEqual([])
  })
  test('a thread: a screw, which turns and slides at once', () => {
    // normals of a helicoid about z: no turn and no slide alone goes without resistance
    const lead = 8
    const xyz: number[] = []
    const normals: number[] = []
    for (let a = 0; a < 12; a += 0.05)
      for (const r of [8, 9, 10, 11, 12]) {
        xyz.push(r * Math.cos(a), r * Math.sin(a), lead * (a / (2 * Math.PI)) - 8)
        const l = Math.hypot(lead / (2 * Math.PI), r)
        normals.push((Math.sin(a) * lead) / (2 * Math.PI * l), (-Math.cos(a) * lead) / (2 * Math.PI * l), r / l)
      }
    const p: Points = { kind: 'points', xyz: Float32Array.from(xyz), normals: Float32Array.from(normals) }
    const pitch = lead / (2 * Math.PI)
    const screw = motions(freeOf(p, pitch), pitch).find((m) => m.kind === 'screw')
    expect(screw && motionWords(screw)).toBe('screw about z')
  })
  test('the noise of the normals holds nothing: with it known, a faint hold counts as free', () => {
    const { jtj, weight } = matrixOf(cube(20, 1), 10)
    const held = freedoms(jtj, weight, 10).map((f) => f.hold)
    const noise = Math.min(...held) / 10
    expect(freedoms(jtj, weight, 10).filter((f) => f.free)).toEqual([])
    expect(freedoms(jtj, weight, 10, noise).filter((f) => f.free).length).toBeGreaterThan(0)
  })
})

describe('joint adjustment says what it does not know', () => {
  const error = (pose: Float64Array, p: Placed<Points>) => poseDifference(pose, identity(), boundingBox(p.data.xyz)).rms
  test('two looks at a shaft: the turn and the slide are told and not moved', async () => {
    const r = seeded(6)
    const off = multiply(translation(0.2, -0.1, 0.4), fromRotationVector(0, 0, 0.01))
    const out = await adjustJointly([place(noisy(shaft(12, 50, 0.6), 0.02, r), 'a'), place(noisy(shaft(12, 50, 0.6), 0.02, r), 'b', off)], {}, quietContext)
    expect(out.passes[1].free.map(motionWords).sort()).toEqual(['slide along z', 'turn about z'])
    expect(out.passes[1].sigma).toBe(Infinity)
    // held: the axis comes back; free: the slide of 0.4 mm stays
    expect(Math.hypot(out.poses[1][3], out.poses[1][7])).toBeLessThan(0.03)
    expect(Math.abs(out.poses[1][11] - 0.4)).toBeLessThan(0.05)
  })
  test.each([0.003, 0.02, 0.05])('the predicted error is the true one, whether the scanner has %p mm of noise', async (noise) => {
    const views = await plateViews(4, noise)
    const off = views.map((v, i) => ({ ...v, pose: i ? translation(0.3, 0.2 * i, -0.25) : identity() }))
    const r = await adjustJointly(off, {}, quietContext)
    const worst = Math.max(...r.poses.map((p, i) => error(p, views[i])))
    expect(worst / r.error).toBeLessThan(2.5)
    expect(worst / r.error).toBeGreaterThan(1 / 3.5)
    expect(worst).toBeLessThan(noise === 0.05 ? 0.015 : 0.009)
  })
  test('passes of one setup move as one', async () => {
    const views = await plateViews(4)
    const off = translation(0.4, -0.3, 0.2)
    const start = views.map((v, i) => ({ ...v, pose: i < 2 ? identity() : off }))
    const r = await adjustJointly(start, { setups: [0, 0, 1, 1], rigid: true }, quietContext)
    expect([...r.poses[0]]).toEqual([...identity()])
    expect([...r.poses[1]]).toEqual([...identity()])
    expect(poseDifference(r.poses[2], r.poses[3], boundingBox(views[2].data.xyz)).max).toBeLessThan(1e-9)
    expect(error(r.poses[2], views[2])).toBeLessThan(0.01)
  })
  test('pairs are listed once each, their gaps lie where the surface is', async () => {
    const views = await plateViews(4)
    const r = await adjustJointly(views, {}, quietContext)
    const keys = r.pairs.map((p) => `${p.a} ${p.b}`)
    expect(new Set(keys).size).toBe(keys.length)
    for (const p of r.pairs) expect([p.a < p.b, p.count > 20, p.largest >= p.rms]).toEqual([true, true, true])
    expect(r.gapXyz.length).toBe(3 * r.gaps.length)
    const box = boundingBox(views[0].data.xyz)
    for (let i = 0; i < r.gapXyz.length; i += 300) for (let k = 0; k < 3; k++) expect(r.gapXyz[i + k]).toBeGreaterThan(box[k] - 5)
    // a pass that does not agree shows in each of its pairs, signed, and in no other
    const lifted = views.map((v, i) => ({ ...v, pose: i === 3 ? translation(0, 0, 0.05) : identity() }))
    const held = await adjustJointly(lifted, { setups: [0, 0, 0, 0], tracking: 1e-6 }, quietContext)
    // level faces show all of it, walls none
    for (const p of held.pairs) {
      expect(p.mean).toBeLessThan(p.b === 3 ? -0.01 : 0.002)
      expect(p.mean).toBeGreaterThan(p.b === 3 ? -0.0505 : -0.002)
      if (p.b === 3) expect(p.largest).toBeGreaterThan(0.045)
      else expect(p.largest).toBeLessThan(0.03)
    }
    expect(held.largest).toBeGreaterThan(0.05)
  })
  test('any pass may be the anchor: the passes lie to each other as before', async () => {
    const views = await plateViews(3)
    const off = views.map((v, i) => ({ ...v, pose: translation(0.2 * i, 0, 0.1 * i) }))
    const a = await adjustJointly(off, { anchor: 0 }, quietContext)
    const b = await adjustJointly(off, { anchor: 2 }, quietContext)
    expect([...b.poses[2]]).toEqual([...off[2].pose])
    const relative = (poses: Float64Array[]) => [0, 1, 2].map((k) => poses[1][4 * k + 3] - poses[2][4 * k + 3])
    relative(a.poses).forEach((v, k) => expect(Math.abs(v - relative(b.poses)[k])).toBeLessThan(0.01))
  })
  test('the same numbers again', async () => {
    const views = await plateViews(3)
    const off = views.map((v, i) => ({ ...v, pose: translation(0.2 * i, 0, 0.1 * i) }))
    const [a, b] = [await adjustJointly(off, {}, quietContext), await adjustJointly(off, {}, quietContext)]
    expect(b.poses.map((p) => [...p])).toEqual(a.poses.map((p) => [...p]))
  })
  test('cancelled between rounds', async () => {
    const views = await plateViews(2)
    let asked = 0
    const signal = {
      get aborted() {
        return ++asked > 12
      },
    }
    expect((await oakError(adjustJointly(views, {}, { ...quietContext, signal }))).code).toBe('cancelled')
  })
})
