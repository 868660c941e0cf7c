import { describe, expect, it } from '@jest/globals'
import { bundleAdjust } from '../src/calibrate/bundle.ts'
import { identity, multiply } from '../src/base/mat4.ts'
import { cameraToArray, project, type Camera } from '../src/calibrate/camera.ts'
import { closedForm, planePose } from '../src/calibrate/closedform.ts'
import { findCorners } from '../src/calibrate/corners.ts'
import { cover, coveredShare, emptyCoverage } from '../src/calibrate/coverage.ts'
import { homography } from '../src/calibrate/homography.ts'
import type { GreyImage } from '../src/calibrate/image.ts'
import { integralImage } from '../src/calibrate/image.ts'
import { measureBar, orThrow, readPlates, solveCalibration } from '../src/calibrate/kernels.ts'
import { platePoints, plateSchema } from '../src/calibrate/plate.ts'
import { platePose } from '../src/calibrate/platepose.ts'
import { emptyReading } from '../src/calibrate/platereading.ts'
import { readPlate } from '../src/calibrate/readplate.ts'
import { castScene, emptyHit, MATERIALS } from '../src/scanner/scene.ts'
import { rehearseObservations } from '../src/scanner/rehearse.ts'
import { normalBelow } from '../src/base/normal.ts'
import { image, LEFT, PLATE, posed, STEREO } from './plates.ts'

/** A chessboard of columns x rows inner corners, drawn by asking sixteen places of every pixel where they are. */
function board(
  columns: number,
  rows: number,
  pose: { x: number; y: number; s: number; a: number; slant?: number; flat?: number },
  width = 640,
  height = 480,
): GreyImage {
  const data = new Uint8Array(width * height)
  for (let y = 0; y < height; y++)
    for (let x = 0; x < width; x++) {
      let v = 0
      for (let k = 0; k < 16; k++) {
        const dx = ((k & 3) - 1.5) / 4
        const dy = ((k >> 2) - 1.5) / 4
        // seen at a slant: rows shifted against each other, and pressed together
        const w = (y + dy - pose.y) / (pose.flat ?? 1)
        const u = x + dx - pose.x - (pose.slant ?? 0) * w
        const c = Math.floor((u * Math.cos(pose.a) + w * Math.sin(pose.a)) / pose.s + 1)
        const r = Math.floor((-u * Math.sin(pose.a) + w * Math.cos(pose.a)) / pose.s + 1)
        const inside = c >= 0 && r >= 0 && c <= columns && r <= rows
        v += inside ? ((c + r) % 2 === 0 ? 30 : 220) : 200
      }
      data[y * width + x] = v / 16
    }
  return { width, height, data }
}
const BOARD = plateSchema.parse({
  format: 'oak-gauge plate',
  version: 1,
  id: 'C',
  name: 'Board 7 x 6',
  pattern: 'chessboard',
  columns: 7,
  rows: 6,
  pitch: 20,
  certificate: { number: '-', date: '2026-01-01', expansion: 10 },
})

describe('chessboards', () => {
  it('every corner where it was drawn, whichever way up, in the board’s own order', () => {
    for (const a of [0.12, 1.7, 3.3, 4.8]) {
      const at = { x: 320, y: 230, s: 34, a }
      // the board's middle in the image's middle
      at.x -= 3 * 34 * Math.cos(a) - 2.5 * 34 * Math.sin(a)
      at.y -= 3 * 34 * Math.sin(a) + 2.5 * 34 * Math.cos(a)
      const r = readPlate(board(7, 6, at), BOARD)
      expect([a, r.trouble, r.ids.length]).toEqual([a, null, 42])
      for (let i = 0; i < 42; i++) {
        const [c, w] = [(i % 7) * 34, Math.floor(i / 7) * 34]
        const [u, v] = [at.x + c * Math.cos(a) - w * Math.sin(a), at.y + c * Math.sin(a) + w * Math.cos(a)]
        expect(Math.hypot(r.pixels[2 * i] - u, r.pixels[2 * i + 1] - v)).toBeLessThan(0.15)
      }
    }
  })
  it.each([
    [0.5, 0.8],
    [-0.5, 0.8],
    [0.62, 0.75],
    [-0.66, 0.7],
  ])('seen at a slant where a diagonal is shorter than a side (%d, %d): all corners in their order', (slant, flat) => {
    const at = { x: slant > 0 ? 130 : 280, y: 120, s: 40, a: 0, slant, flat }
    const r = readPlate(board(7, 6, at), BOARD)
    expect([r.trouble, r.ids.length]).toEqual([null, 42])
    for (let i = 0; i < 42; i++) {
      const [c, w] = [(i % 7) * 40, Math.floor(i / 7) * 40]
      expect(Math.hypot(r.pixels[2 * i] - (at.x + c + slant * w), r.pixels[2 * i + 1] - (at.y + flat * w))).toBeLessThan(0.3)
    }
  })
  it('a larger board at a slant is still another board, never a slanted piece of it', () => {
    const r = readPlate(board(13, 6, { x: 60, y: 140, s: 34, a: 0, slant: 0.6, flat: 0.75 }), BOARD)
    expect(r.trouble?.code).toBe('wrong-plate')
    expect(r.ids.length).toBe(0)
  })
  it('partly out of view, none at all, or another board', () => {
    const whole = { x: 120, y: 110, s: 34, a: 0.1 }
    expect(readPlate(board(7, 6, { ...whole, x: -60 }), BOARD).trouble?.code).toBe('half-out')
    expect(readPlate({ width: 640, height: 480, data: new Uint8Array(640 * 480).fill(120) }, BOARD).trouble?.code).toBe('no-plate')
    expect(readPlate(board(9, 8, { x: 120, y: 90, s: 34, a: 0.05 }), BOARD).trouble?.code).toBe('wrong-plate')
  })
  it('corners are given by falling strength', () => {
    const c = findCorners(board(7, 6, { x: 150, y: 120, s: 40, a: 0.2 }))
    expect([...c.strength].every((s, i) => i === 0 || s <= c.strength[i - 1])).toBe(true)
    expect(c.strength[0]).toBe(1)
  })
})

describe('the closed form', () => {
  const flat = (p: ArrayLike<number>) => Float64Array.from({ length: (2 * p.length) / 3 }, (_, i) => p[3 * (i >> 1) + (i & 1)])
  const points = platePoints(PLATE)
  const maps = (camera: Camera, poses: ArrayLike<number>[]) => {
    const c = cameraToArray(camera)
    const uv = new Float64Array(2)
    return poses.map((m) => {
      const pixels: number[] = []
      for (let i = 0; i < points.length; i += 3) {
        const q = multiply(m, [1, 0, 0, points[i], 0, 1, 0, points[i + 1], 0, 0, 1, 0, 0, 0, 0, 1])
        project(c, q[3], q[7], q[11], uv)
        pixels.push(uv[0], uv[1])
      }
      return homography(flat(points), pixels)!
    })
  }
  const straight: Camera = { ...LEFT, k1: 0, k2: 0, k3: 0, p1: 0, p2: 0 }
  it('is exact without distortion', () => {
    const c = closedForm(maps(straight, [posed(400, 0.4), posed(380, 0, 0.5), posed(420, -0.3, -0.3), posed(450, 0.2, -0.4, 0.5)]), 1024, 768)!
    ;[straight.fx, straight.fy, straight.cx, straight.cy].forEach((v, i) => expect(c[i]).toBeCloseTo(v, 3))
  })
  it('two views, or views that contradict each other: the focal length alone, or nothing', () => {
    const two = closedForm(maps(straight, [posed(400, 0.5, 0.1), posed(400, -0.4, 0.3)]), 1024, 768)!
    expect([Math.abs(two[0] / 1050 - 1) < 0.02, two[2]]).toEqual([true, 511.5])
    expect(closedForm(maps(straight, [posed(400), posed(430)]), 1024, 768)).toBeUndefined()
  })
  it('a plane’s pose from one view', () => {
    const pose = posed(410, 0.3, -0.2, 0.7, 20, -10)
    const c = cameraToArray(LEFT)
    const uv = new Float64Array(2)
    const pixels: number[] = []
    for (let i = 0; i < points.length; i += 3) {
      const q = multiply(pose, [1, 0, 0, points[i], 0, 1, 0, points[i + 1], 0, 0, 1, 0, 0, 0, 0, 1])
      project(c, q[3], q[7], q[11], uv)
      pixels.push(uv[0], uv[1])
    }
    planePose(c, points, pixels)!.forEach((v, i) => expect(v).toBeCloseTo(pose[i], 6))
  })
})

describe('adjustment', () => {
  const views = rehearseObservations(STEREO, PLATE, [posed(400, 0.4), posed(350, 0, 0.5), posed(450, -0.4, 0.2), posed(420, 0.2, -0.5, 0.6)], 20, 4, 0).map(
    (o) =>
      [o.left, o.right].map((s) => {
        const all = platePoints(PLATE)
        return { points: Float64Array.from(s.ids.flatMap((id) => [...all.subarray(3 * id, 3 * id + 3)])), pixels: Float64Array.from(s.pixels) }
      }),
  )
  const start = {
    cameras: [cameraToArray(STEREO.left), cameraToArray(STEREO.right)].map((c) => c.map((v, i) => (i < 4 ? v * 1.01 : v * 0.7))),
    rig: [identity(), Float64Array.from(STEREO.pose)],
    poses: [posed(402, 0.42), posed(352, 0, 0.48), posed(455, -0.38, 0.2), posed(418, 0.2, -0.52, 0.6)],
  }
  it('without noise it ends at the truth, the residual being the bias of the circles alone', () => {
    const r = bundleAdjust(views, start, { loss: 'none' })
    expect([r.converged, r.rms < 0.03, Math.abs(r.cameras[0][0] - LEFT.fx) < 1]).toEqual([true, true, true])
  })
  it('held numbers stay as they were', () => {
    const held = bundleAdjust(views, start, { loss: 'none', free: [true, true, true, true, true, true, true, true, false] })
    expect(held.cameras[0][8]).toBe(start.cameras[0][8])
    const all = bundleAdjust(views, start, { holdAll: true, iterations: 5 })
    expect([[...all.cameras[1]], [...all.rig[1]], all.covariance.length]).toEqual([[...start.cameras[1]], [...start.rig[1]], 0])
  })
  it('fewer observations than unknowns: not determined', () => {
    const few = [[{ points: views[0][0].points.slice(0, 12), pixels: views[0][0].pixels.slice(0, 8) }]]
    expect(() => bundleAdjust(few, { cameras: [start.cameras[0]], rig: [identity()], poses: [start.poses[0]] })).toThrow('do not determine')
  })
  it('a camera that saw nothing in a pose does no harm', () => {
    const r = bundleAdjust([...views.slice(0, 3), [views[3][0], null]], start, { loss: 'none' })
    expect([r.converged, r.residuals[3][1]]).toEqual([true, null])
  })
})

describe('small things', () => {
  it('the plate’s pose needs at least one good reading', () => {
    expect(platePose(STEREO, PLATE, emptyReading(), emptyReading())).toBeUndefined()
    const one = readPlate(image({ plates: [{ plate: PLATE, pose: posed(400, 0.2) }] }), PLATE)
    const found = platePose(STEREO, PLATE, one, { ...emptyReading(), trouble: { code: 'no-plate', message: '', remedy: '' } })!
    expect(Math.abs(found.pose[11] - posed(400, 0.2)[11])).toBeLessThan(0.05)
  })
  it('coverage counts cells', () => {
    const c = emptyCoverage(4, 2)
    cover(c, [1, 1, 2, 2, 3, 3, 99, 49], 100, 50)
    expect([c.counts, coveredShare(c, 3), coveredShare(c, 1)]).toEqual([[3, 0, 0, 0, 0, 0, 0, 1], 1 / 8, 2 / 8])
  })
  it('sums over rectangles', () => {
    const s = integralImage({ width: 3, height: 2, data: Uint8Array.of(1, 2, 3, 4, 5, 6) })
    expect([s[11], s[11] - s[9] - s[3] + s[1]]).toEqual([21, 16])
  })
  it('the normal distribution to 1e-6', () => {
    // Abramowitz and Stegun, table 26.1
    ;[
      [0, 0.5],
      [1, 0.841344746],
      [-1, 0.158655254],
      [2, 0.977249868],
      [-3, 0.001349898],
    ].forEach(([s, p]) => expect(Math.abs(normalBelow(s) - p)).toBeLessThan(1e-6))
  })
  it('rays meet rods and spheres where they should, and the nearer one', () => {
    const sphere = { kind: 'sphere' as const, centre: [0, 0, 100], radius: 10, material: MATERIALS.matte }
    const rod = { kind: 'rod' as const, from: [-50, 0, 60], to: [50, 0, 60], radius: 5, material: MATERIALS.dark }
    const hit = emptyHit()
    castScene([sphere, rod], [0, 0, 0], [0, 0, 1], hit)
    expect([hit.t, hit.nz, hit.material]).toEqual([55, -1, MATERIALS.dark])
    const beside = emptyHit()
    castScene([sphere, rod], [0, 8, 0], [0, 0, 1], beside)
    expect(beside.t).toBeCloseTo(94, 9)
    const past = emptyHit()
    castScene([rod], [60, 0, 0], [0, 0, 1], past)
    expect(past.t).toBe(Infinity)
  })
  it('errors come back from threads with their words', () => {
    const solved = solveCalibration.run({ plate: PLATE, observations: [], width: 1024, height: 768 }, 0, 1)
    expect(() => orThrow(solved)).toThrow('0 poses are too few')
    const bar = measureBar.run(
      { points: new Float32Array(30), bar: { spheres: [{ diameter: 20 }, { diameter: 20 }], distance: 100 } as never, celsius: 20 },
      0,
      1,
    )
    expect(() => orThrow(bar)).toThrow('No sphere')
    expect(readPlates.run({ images: [image({ plates: [] })], plate: PLATE }, 0, 1)[0].trouble?.code).toBe('no-plate')
  })
})
