import { describe, expect, it } from '@jest/globals'
import { fromRotationVector, identity, invertRigid, multiply, rotationAngleDeg, transformPoint, translation } from '../src/base/mat4.ts'
import { cameraToArray, project } from '../src/calibrate/camera.ts'
import { scannerHealth, warmUpFit, type HealthFacts } from '../src/calibrate/health.ts'
import { platePose } from '../src/calibrate/platepose.ts'
import { readPlate } from '../src/calibrate/readplate.ts'
import { matchPose, movedPlate, targetPoses } from '../src/calibrate/targets.ts'
import { scannerCelsius, trueOptics } from '../src/scanner/optics.ts'
import { plateImage, rayTable } from '../src/scanner/plateimage.ts'
import { MATERIALS, type Material, type Thing } from '../src/scanner/scene.ts'
import { takeShot, type ShotOptions } from '../src/scanner/shot.ts'
import { bodyToLeft, designedStereo, type ScannerSpec } from '../src/scanner/spec.ts'
import { buildBvh } from '../src/space/bvh.ts'
import { boxMesh, sphereMesh } from './help.ts'
import { PLATE } from './plates.ts'

const design = designedStereo({ width: 1024, height: 768, focal: 1050, baseline: 140, crossing: 400 })
const spec = { design, range: { near: 250, ideal: 400, far: 550 } } as unknown as ScannerSpec
const truth = trueOptics(design, 5, { celsius: 30, days: 10, drops: 0 })

describe('the true optics of a stand-in', () => {
  it('repeat for the same state, and the design’s axes cross where they should', () => {
    expect(trueOptics(design, 5, { celsius: 30, days: 10, drops: 0 })).toEqual(truth)
    const mid = multiply(bodyToLeft(design), [1, 0, 0, 0, 0, 1, 0, 0, 0, 0, 1, 400, 0, 0, 0, 1])
    const uv = new Float64Array(2)
    project(cameraToArray(design.left), mid[3], mid[7], mid[11], uv)
    expect([uv[0], uv[1]].map((v) => v.toFixed(6))).toEqual(['511.500000', '383.500000'])
  })
  it('move with warmth and days, and jump when dropped', () => {
    const turned = (s: Partial<{ celsius: number; days: number; drops: number }>) =>
      rotationAngleDeg(multiply(invertRigid(truth.pose), trueOptics(design, 5, { celsius: 30, days: 10, drops: 0, ...s }).pose))
    expect(turned({ celsius: 20 })).toBeGreaterThan(0.005)
    expect([turned({ days: 40 }) > 0.0005, turned({ days: 40 }) < 0.02]).toEqual([true, true])
    expect(turned({ drops: 1 })).toBeGreaterThan(0.02)
    expect(scannerCelsius(20, 10, 100, 300)).toBeCloseTo(29.502, 3)
  })
})

describe('a shot', () => {
  const middle = multiply(invertRigid(bodyToLeft(truth)), identity())
  const at = (x: number, y: number, z: number) => [x, y, z]
  const ball = (material: Material, z = 400): Thing => ({ kind: 'sphere', centre: at(0, 0, z), radius: 20, material })
  const shot = (things: Thing[], o: Partial<ShotOptions> = {}, believed = truth) =>
    takeShot(spec, truth, believed, things, { pose: middle, pattern: 'area', exposure: 1, stride: 4, noise: 0.02, seed: 3, ...o })
  const radius = (xyz: Float32Array, z = 400) => {
    const c = multiply(bodyToLeft(truth), [1, 0, 0, 0, 0, 1, 0, 0, 0, 0, 1, z, 0, 0, 0, 1])
    return Array.from({ length: xyz.length / 3 }, (_, i) => Math.hypot(xyz[3 * i] - c[3], xyz[3 * i + 1] - c[7], xyz[3 * i + 2] - c[11]))
  }
  const spread = (r: number[]) => Math.sqrt(r.reduce((s, v) => s + (v - 20) ** 2, 0) / r.length)

  it('lies on the surface, within the noise of its pixels', () => {
    const s = shot([ball(MATERIALS.ceramic)])
    expect(s.xyz.length / 3).toBeGreaterThan(80)
    expect([spread(radius(s.xyz)) < 0.06, s.dark, s.bright]).toEqual([true, 0, 0])
  })
  it('dark surfaces drop out, and come back with more exposure', () => {
    const s = shot([ball(MATERIALS.dark)])
    expect(s.dark).toBeGreaterThan(0.15)
    expect(shot([ball(MATERIALS.dark)], { exposure: 6 }).dark).toBeLessThan(0.05)
  })
  it('too much light blooms into false points; a mirror shows next to nothing; light that goes in comes back from too deep', () => {
    const over = shot([ball(MATERIALS.ceramic)], { exposure: 4 })
    expect([over.bright > 0.5, spread(radius(over.xyz)) > 0.15]).toEqual([true, true])
    expect(shot([ball(MATERIALS.mirror)]).xyz.length).toBeLessThan(0.2 * shot([ball(MATERIALS.ceramic)]).xyz.length)
    const inner = radius(shot([ball(MATERIALS['see-through'])], { exposure: 5 }).xyz)
    expect(inner.reduce((a, b) => a + b, 0) / inner.length).toBeLessThan(19.8)
  })
  it('what one camera or the lamp does not see is not measured', () => {
    const free = shot([ball(MATERIALS.ceramic)]).xyz.length
    const wall: Thing = { kind: 'rod', from: at(-14, -80, 340), to: at(-14, 80, 340), radius: 12, material: MATERIALS.matte }
    const ownPoints = radius(shot([ball(MATERIALS.ceramic), wall]).xyz).filter((r) => Math.abs(r - 20) < 1)
    expect(ownPoints.length).toBeLessThan(0.8 * (free / 3))
  })
  it('nothing nearer or farther than the working range', () => {
    expect(shot([ball(MATERIALS.ceramic, 150)]).xyz.length).toBe(0)
    expect(shot([ball(MATERIALS.ceramic, 900)]).xyz.length).toBe(0)
  })
  it('a mesh is met like the thing it is of', () => {
    const mesh = sphereMesh(20, 96)
    const pose = [1, 0, 0, 0, 0, 1, 0, 0, 0, 0, 1, 400, 0, 0, 0, 1]
    const s = shot([{ kind: 'mesh', mesh, bvh: buildBvh(mesh), pose, material: MATERIALS.ceramic }])
    expect([s.xyz.length / 3 > 80, spread(radius(s.xyz)) < 0.08]).toEqual([true, true])
  })
  it('lines: some points on each, moved by the phase', () => {
    const a = shot([ball(MATERIALS.ceramic)], { pattern: 'cross', phase: 0.2 })
    const b = shot([ball(MATERIALS.ceramic)], { pattern: 'cross', phase: 0.7 })
    const one = shot([ball(MATERIALS.ceramic)], { pattern: 'line' })
    expect([a.xyz.length > 100, one.xyz.length > 30, a.xyz[0] !== b.xyz[0], one.xyz.length < a.xyz.length]).toEqual([true, true, true, true])
  })
  it('what is seen while the scanner moves lies where it was seen: scattered by the way of the exposure', () => {
    const motion = new Float64Array(12)
    motion[11] = 0.6
    const still = spread(radius(shot([ball(MATERIALS.ceramic)]).xyz))
    const moving = radius(shot([ball(MATERIALS.ceramic)], { motion }).xyz)
    expect([spread(moving) > 2.5 * still, Math.abs(moving.reduce((a, b) => a + b, 0) / moving.length - 20) < 0.05]).toEqual([true, true])
  })
  it('a glossy floor shows the wall beside it below itself; a matt one does not', () => {
    const floor = (material: Material): Thing => {
      const mesh = boxMesh(200, 120, 5)
      // leaning away from the scanner, so that it sees the wall in it
      const pose = multiply(multiply(translation(-100, -20, 420), fromRotationVector(-0.9, 0, 0)), identity())
      return { kind: 'mesh', mesh, bvh: buildBvh(mesh), pose, material }
    }
    const wall: Thing = { kind: 'sphere', centre: at(0, -30, 425), radius: 22, material: MATERIALS.ceramic }
    const below = (material: Material) => {
      const s = shot([floor(material), wall], { stride: 3 })
      const back = invertRigid(multiply(bodyToLeft(truth), Float64Array.from((floor(material) as { pose: ArrayLike<number> }).pose)))
      let n = 0
      for (let i = 0; i < s.xyz.length; i += 3) {
        const p = transformPoint(back, s.xyz[i], s.xyz[i + 1], s.xyz[i + 2])
        if (
          p[0] > 0 &&
          p[0] < 200 &&
          p[1] > 0 &&
          p[1] < 120 &&
          (p[2] < -2 || p[2] > 7) &&
          Math.hypot(...transformPoint(invertRigid(bodyToLeft(truth)), s.xyz[i], s.xyz[i + 1], s.xyz[i + 2]).map((v, k) => v - [0, -30, 425][k])) > 23
        )
          n++
      }
      return n
    }
    expect(below(MATERIALS.matte)).toBe(0)
    expect(below({ albedo: 0.03, gloss: 0.5, seeThrough: 0 })).toBeGreaterThan(5)
  })
  it('with optics that are no longer true the rays miss each other, and points lie wrong', () => {
    const dropped = trueOptics(design, 5, { celsius: 30, days: 10, drops: 1 })
    const s = shot([ball(MATERIALS.ceramic)], {}, dropped)
    expect(s.rayGap).toBeGreaterThan(2 * shot([ball(MATERIALS.ceramic)]).rayGap)
  })
})

describe('target poses', () => {
  it('are read back from images, and matched; a movement in its words leads from one to another', () => {
    const rays = [rayTable(design.left), rayTable(design.right)]
    const targets = targetPoses(spec, design, PLATE)
    expect(targets).toHaveLength(16)
    for (const t of [targets[0], targets[2], targets[5], targets[9]]) {
      const images = [design.left, design.right].map((c, k) =>
        plateImage(c, rays[k], { plates: [{ plate: PLATE, pose: k ? multiply(design.pose, t.pose) : t.pose }], seed: k }),
      )
      const found = platePose(design, PLATE, readPlate(images[0], PLATE), readPlate(images[1], PLATE))!
      expect(matchPose(design, PLATE, found.pose, t.pose)).toMatchObject({ matched: true, nearness: 1 })
    }
    const body = invertRigid(bodyToLeft(design))
    const from = multiply(body, targets[0].pose)
    const m = matchPose(design, PLATE, targets[0].pose, targets[7].pose)
    expect(m.matched).toBe(false)
    const there = movedPlate(PLATE, from, m)
    expect(matchPose(design, PLATE, multiply(bodyToLeft(design), there), targets[7].pose).nearness).toBeGreaterThan(0.9)
  })
})

describe('health', () => {
  const day = 86_400_000
  const facts: HealthFacts = {
    now: 10 * day,
    limits: { reprojection: 1, form: 1, size: 1, distance: 1, kelvin: 4, days: 7, idleDays: 4 },
    calibration: { at: 9 * day, celsius: 20, verdict: 'go', cold: false },
    verification: null,
    shock: null,
    used: null,
    celsius: 21,
  }
  // weekly in regular use, sooner when unused: common practice, no source
  it.each<[string, Partial<HealthFacts>, string, RegExp]>([
    ['fresh', {}, 'go', /Calibrated/],
    ['never calibrated', { calibration: null }, 'no-go', /Never/],
    ['after a week', { now: 16.5 * day, used: 16 * day }, 'due', /7 days ago/],
    ['unused', { now: 13.5 * day }, 'due', /Unused for 4 days/],
    ['after a knock', { shock: 9.5 * day }, 'due', /knock/],
    ['a knock before the calibration does not count', { shock: 8 * day }, 'go', /Calibrated/],
    ['verified after the knock', { shock: 9.5 * day, verification: { at: 9.7 * day, verdict: 'pass' } }, 'go', /verified/],
    ['the room has become warmer', { celsius: 25 }, 'due', /5\.0 K warmer/],
    ['measured to be off', { verification: { at: 9.7 * day, verdict: 'fail' } }, 'no-go', /ball bar/],
    ['calibrated cold', { calibration: { ...facts.calibration!, cold: true } }, 'due', /cold/],
    ['a calibration that is no-go', { calibration: { ...facts.calibration!, verdict: 'no-go' } }, 'no-go', /not fit/],
  ])('%s', (_, more, state, reason) => {
    const h = scannerHealth({ ...facts, ...more })
    expect([h.state, h.reason]).toEqual([state, expect.stringMatching(reason)])
    expect(h.goodUntil === null).toBe(state !== 'go')
  })
  it('good until the earlier of a week and the idle time', () => {
    expect(scannerHealth(facts).goodUntil).toBe(13 * day)
    expect(scannerHealth({ ...facts, used: 14 * day, now: 14 * day }).goodUntil).toBe(16 * day)
  })
  it('a warm-up is told from its beginning: final temperature to 0.3 K, time constant to a tenth', () => {
    const t = Array.from({ length: 40 }, (_, i) => i * 10_000)
    const fit = warmUpFit(
      t,
      t.map((ms, i) => scannerCelsius(20, 11, 240, ms / 1000) + 0.01 * Math.sin(7 * i)),
    )!
    expect([Math.abs(fit.final - 31) < 0.3, Math.abs(fit.tau / 240_000 - 1) < 0.1]).toEqual([true, true])
    expect(warmUpFit([0, 1, 2, 3, 4, 5, 6], [31, 31, 31, 31, 31, 31, 31])).toBeNull()
  })
})
