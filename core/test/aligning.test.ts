import { describe, expect, test } from '@jest/globals'
import { f32 } from '../src/base/arrays.ts'
import {
  fromQuaternion,
  fromRotationVector,
  identity,
  invertRigid,
  multiply,
  poseDifference,
  rotationAngleDeg,
  transformArray,
  translation,
} from '../src/base/mat4.ts'
import { randomQuaternion, seeded } from '../src/base/random.ts'
import { quietContext } from '../src/base/run.ts'
import { groupCloud, type Cloud } from '../src/align/cloud.ts'
import { alignByShape } from '../src/align/coarse.ts'
import { icp } from '../src/align/icp.ts'
import { poseVotes } from '../src/align/pairvotes.ts'
import { balanceByNormal, independentShare } from '../src/align/surfels.ts'
import { depthMaps, verifyPose } from '../src/align/verify.ts'
import { boundingBox, makePoints, type Placed, type Points } from '../src/shape/points.ts'
import { sampleMesh } from '../src/shape/sample.ts'
import { buildRowGrid } from '../src/space/rowgrid.ts'
import { boxMesh, oakError } from './help.ts'
import { patch, place, plateViews, sphere } from './shapes.ts'

/** A step of three boxes, which fits one way only, as an even cloud. */
function stairs(n: number, seed: number): Cloud {
  const parts = [boxMesh(60, 40, 10), boxMesh(35, 40, 22), boxMesh(15, 18, 35)].map((m, k) => sampleMesh(m, Math.round(n / 3), seed + k))
  const xyz = f32(parts.reduce((s, p) => s + p.xyz.length, 0))
  const normals = f32(xyz.length)
  let at = 0
  for (const p of parts) {
    xyz.set(p.xyz, at)
    normals.set(p.normals, at)
    at += p.xyz.length
  }
  return { xyz, normals, size: 2.5, diagonal: 80, guessed: false }
}
const moved = (c: Cloud, pose: Float64Array): Cloud => ({
  ...c,
  xyz: transformArray(pose, c.xyz, f32(c.xyz.length)),
  normals: transformArray(pose, c.normals, f32(c.xyz.length), true),
})
const boxOf = (c: Cloud) => boundingBox(c.xyz)

describe('a thinned picture of a group', () => {
  test('lies in the group’s coordinates, about as dense as asked for, normals outwards', async () => {
    const away = translation(500, 0, 0)
    const c = await groupCloud([place(sphere(20, 0.5), 'a', away), place(sphere(20, 0.45), 'b', away)], 2000, quietContext)
    const n = c.xyz.length / 3
    expect(n).toBeGreaterThan(1200)
    expect(n).toBeLessThan(3500)
    expect(c.diagonal).toBeCloseTo(40 * Math.sqrt(3), 0)
    for (let i = 0; i < c.xyz.length; i += 3) {
      const r = [c.xyz[i] - 500, c.xyz[i + 1], c.xyz[i + 2]]
      expect(r[0] * c.normals[i] + r[1] * c.normals[i + 1] + r[2] * c.normals[i + 2]).toBeGreaterThan(19)
    }
  })
})

describe('votes of point pairs', () => {
  test.each([1, 2, 3, 4])('the right pose is among the first, from any start (seed %p)', async (seed) => {
    const pose = fromQuaternion(randomQuaternion(seeded(seed)), [40, -20, 90])
    const moving = moved(stairs(1500, 20), invertRigid(pose))
    const found = (await poseVotes(stairs(1500, 1), moving, { seed }, quietContext)).slice(0, 5)
    const near = found.filter((p) => rotationAngleDeg(multiply(invertRigid(pose), p)) < 12 && poseDifference(p, pose, boxOf(moving)).max < 10)
    expect(near.length).toBeGreaterThan(0)
  })
  test('cancelling is heard between the votes', async () => {
    const run = poseVotes(stairs(600, 1), stairs(600, 5), {}, { ...quietContext, signal: { aborted: true } })
    expect((await oakError(run)).code).toBe('cancelled')
  })
})

describe('rough settling', () => {
  test('catches what is some millimetres and degrees off', () => {
    const fixed = stairs(9000, 1)
    const start = multiply(translation(1.5, -1, 0.8), fromRotationVector(0.03, -0.02, 0.04))
    const pose = icp(stairs(3000, 9), fixed, buildRowGrid(fixed.xyz, 4), start, [6, 3, 1.5], 15)
    expect(poseDifference(pose, identity(), boxOf(fixed)).max).toBeLessThan(0.15)
    expect(poseDifference(start, identity(), boxOf(fixed)).max).toBeGreaterThan(2)
  })
  test('without anything near it stays where it is', () => {
    const fixed = stairs(2000, 1)
    const start = translation(900, 0, 0)
    expect([...icp(stairs(500, 2), fixed, buildRowGrid(fixed.xyz, 4), start, [6, 3], 10)]).toEqual([...start])
  })
})

describe('judging a pose', () => {
  test('the right one agrees; half a turn, a shift and a turn over contradict', () => {
    const fixed = stairs(9000, 1)
    const grid = buildRowGrid(fixed.xyz, 5)
    const own = stairs(3000, 9)
    const right = verifyPose(fixed, grid, own, identity(), [], [])
    expect(right.agree).toBeGreaterThan(0.8)
    expect(right.against).toBeLessThan(0.1)
    const middle = translation(30, 20, 0)
    const turned = multiply(middle, multiply(fromRotationVector(0, 0, Math.PI), invertRigid(middle)))
    for (const wrong of [turned, translation(0, 0, 3), multiply(fromRotationVector(Math.PI, 0, 0), translation(0, -40, -10))]) {
      const v = verifyPose(fixed, grid, own, wrong, [], [])
      expect(v.agree - 3 * v.against).toBeLessThan(0.65 * (right.agree - 3 * right.against))
    }
  })
  test('surface that would hang where a scanner has seen through is held against the pose', async () => {
    const floor: Placed<Points> = place(patch(60, 60, 1), 'floor')
    const maps = depthMaps([floor], 2)
    expect(maps).toHaveLength(1)
    const fixed = await groupCloud([floor], 1500, quietContext)
    const grid = buildRowGrid(fixed.xyz, 3 * fixed.size)
    const sheet = await groupCloud([place(patch(30, 30, 1), 'sheet')], 600, quietContext)
    const hanging = verifyPose(fixed, grid, sheet, translation(15, 15, 60), maps, [])
    const lying = verifyPose(fixed, grid, sheet, translation(15, 15, 0), maps, [])
    const under = verifyPose(fixed, grid, sheet, translation(15, 15, -60), maps, [])
    expect(hanging.against).toBeGreaterThan(0.9)
    expect([lying.against < 0.05, under.against < 0.05]).toEqual([true, true])
    expect(lying.agree).toBeGreaterThan(0.9)
  })
  test('a pass without a viewpoint accuses nobody', () => {
    expect(depthMaps([place(makePoints({ xyz: patch(10, 10, 1).xyz }))], 1)).toEqual([])
  })
})

describe('surfels', () => {
  test('are chosen so that every direction is served, and never more than there are', async () => {
    // 5000 look up, 40 to the side, 10 are not sound
    const n = 5050
    const normals = f32(3 * n)
    const good = new Uint8Array(n).fill(1)
    for (let i = 0; i < n; i++) normals.set(i < 5000 ? [0, 0, 1] : i < 5040 ? [1, 0, 0] : [0, 1, 0], 3 * i)
    good.fill(0, 5040)
    const ids = Array.from({ length: n }, (_, i) => i)
    const chosen = await balanceByNormal(normals, good, ids, 300, quietContext)
    const side = [...chosen].filter((i) => i >= 5000).length
    expect(side).toBe(40)
    expect(chosen.length).toBeGreaterThan(250)
    expect(chosen.length).toBeLessThanOrEqual(350)
    expect(new Set(chosen).size).toBe(chosen.length)
    expect((await balanceByNormal(normals, good, ids, 99_999, quietContext)).length).toBe(5040)
    // twenty that come or go change nobody else's fate but by their number
    const fewer = good.slice().fill(0, 100, 120)
    const others = await balanceByNormal(normals, fewer, ids, 300, quietContext)
    expect([...others].filter((i) => !chosen.includes(i)).length).toBeLessThan(8)
  })
  test('weigh as much as what they say independently of their neighbours', () => {
    // a thousand in one place say no more than one; far apart each says its own
    const heap = independentShare(
      f32(3000),
      new Uint8Array(1000),
      Int32Array.from({ length: 1000 }, (_, i) => i),
      2,
    )
    expect(heap.reduce((s, w) => s + w, 0)).toBeCloseTo(1, 3)
    const apart = f32(300).map((_, i) => (i % 3 === 0 ? 10 * i : 0))
    const single = independentShare(
      apart,
      new Uint8Array(100),
      Int32Array.from({ length: 100 }, (_, i) => i),
      2,
    )
    expect(single.reduce((s, w) => s + w, 0)).toBeCloseTo(100, 3)
  })
})

describe('by shape, on recorded passes', () => {
  test.each([5, 6, 7])('any start pose, seed %p: lands, and knows it', async (seed) => {
    const [a, b] = await plateViews(2)
    const start = fromQuaternion(randomQuaternion(seeded(seed)), [100, 300, -50])
    const r = await alignByShape([a], [{ ...b, pose: start }], {}, quietContext)
    expect(poseDifference(multiply(r.pose, start), identity(), boundingBox(b.data.xyz)).max).toBeLessThan(3)
    expect(r.overlap).toBeGreaterThan(0.4)
    expect(r.against).toBeLessThan(0.25 * r.overlap)
  })
  test('two parts that have nothing in common, and too little surface', async () => {
    const [a] = await plateViews(1)
    const e = await oakError(alignByShape([a], [place(sphere(8, 0.4), 'ball')], {}, quietContext))
    expect([e.code, e.remedy.includes('pairs')]).toEqual(['no-match', true])
    const few = await oakError(alignByShape([a], [place(patch(1, 1, 0.5), 'crumb')], {}, quietContext))
    expect(few.code).toBe('too-few-points')
  })
})
