import { describe, expect, it } from '@jest/globals'
import jpeg from 'jpeg-js'
import { rehearseObservations } from '../src/scanner/rehearse.ts'
import { identity, invertRigid, multiply, rotationAngleDeg } from '../src/base/mat4.ts'
import { bundleAdjust, type BundleResult } from '../src/calibrate/bundle.ts'
import { calibrateStereo } from '../src/calibrate/calibration.ts'
import { cameraToArray, pixelRay, project, projectWithDerivatives } from '../src/calibrate/camera.ts'
import { closedForm, planePose } from '../src/calibrate/closedform.ts'
import { homography, mapPoint } from '../src/calibrate/homography.ts'
import { judgeCalibration } from '../src/calibrate/judge.ts'
import { plateSchema, platePoints } from '../src/calibrate/plate.ts'
import { readPlate } from '../src/calibrate/readplate.ts'
import { triangulate } from '../src/calibrate/triangulate.ts'
import { designedStereo, type ScannerSpec } from '../src/scanner/spec.ts'
import { fixture, fixtureJson } from './help.ts'
import { LEFT, PLATE, posed, STEREO } from './plates.ts'

describe('one camera', () => {
  const c = cameraToArray(LEFT)
  it('pixels and rays undo each other to 1e-9 px over the whole image', () => {
    const ray = new Float64Array(2)
    const uv = new Float64Array(2)
    for (let v = 0; v < 768; v += 64)
      for (let u = 0; u < 1024; u += 64) {
        pixelRay(c, u, v, ray)
        project(c, 3 * ray[0], 3 * ray[1], 3, uv)
        expect(Math.hypot(uv[0] - u, uv[1] - v)).toBeLessThan(1e-9)
      }
  })
  it('derivatives are those of small differences', () => {
    const [uv, jc, jp, a, b] = [2, 18, 6, 2, 2].map((n) => new Float64Array(n))
    projectWithDerivatives(c, 40, -60, 300, uv, jc, jp)
    for (let k = 0; k < 9; k++) {
      const h = Math.max(1e-6, Math.abs(c[k]) * 1e-6)
      project(
        c.map((v, i) => (i === k ? v + h : v)),
        40,
        -60,
        300,
        a,
      )
      project(
        c.map((v, i) => (i === k ? v - h : v)),
        40,
        -60,
        300,
        b,
      )
      for (const d of [0, 1]) expect(jc[9 * d + k]).toBeCloseTo((a[d] - b[d]) / (2 * h), 4)
    }
    const p = [40, -60, 300]
    for (let k = 0; k < 3; k++) {
      const at = (h: number) => p.map((v, i) => (i === k ? v + h : v)) as [number, number, number]
      project(c, ...at(1e-4), a)
      project(c, ...at(-1e-4), b)
      for (const d of [0, 1]) expect(jp[3 * d + k]).toBeCloseTo((a[d] - b[d]) / 2e-4, 5)
    }
  })
  it('a plane’s map is found again; points on a line give none', () => {
    const h = [1.2, 0.1, 30, -0.2, 0.9, 40, 1e-4, 2e-4, 1]
    const plane = [0, 0, 100, 0, 0, 80, 100, 80, 50, 20]
    const o = new Float64Array(2)
    const pixels = Array.from({ length: 5 }, (_, i) => (mapPoint(h, plane[2 * i], plane[2 * i + 1], o), [...o])).flat()
    homography(plane, pixels)!.forEach((v, i) => expect(v).toBeCloseTo(h[i], 8))
    expect(homography([0, 0, 1, 1, 2, 2, 3, 3], [0, 0, 5, 5, 9, 9, 12, 12])).toBeUndefined()
  })
})

// public images and their solution: OpenCV samples (Apache-2.0), OpenCV 4.6.0 and SciPy, see fixtures/NOTICE
describe('public calibration images', () => {
  const mono = fixtureJson('calibration/opencv_left_mono.json')
  const stereo = fixtureJson('calibration/opencv_stereo_7pairs.json')
  const points = Float64Array.from(mono.object_points_mm.flat())
  const flat = Float64Array.from(mono.object_points_mm.flatMap((p: number[]) => [p[0], p[1]]))
  const solve = (pixels: Float64Array[], k3: boolean): BundleResult => {
    const camera = closedForm(
      pixels.map((p) => homography(flat, p)!),
      640,
      480,
    )!
    const poses = pixels.map((p) => planePose(camera, points, p)!)
    const free = [true, true, true, true, true, true, true, true, k3]
    return bundleAdjust(
      pixels.map((p) => [{ points, pixels: p }]),
      { cameras: [camera], rig: [identity()], poses },
      { loss: 'none', free },
    )
  }
  const published = (list: any) => Object.values(list).map((l: any) => Float64Array.from(l.flat()))

  it('their published corners: the reference library’s own answer (0.195419 px) to 1e-5', () => {
    const r = solve(published(mono.corners_px), true)
    const ref = mono.reference.left_all_13.k1k2p1p2k3.opencv
    expect(r.rms / ref.rms_px).toBeCloseTo(1, 6)
    const [fx, fy, cx, cy, k1, k2, p1, p2, k3] = r.cameras[0]
    ;[fx / ref.fx, fy / ref.fy, cx / ref.cx, cy / ref.cy].forEach((q) => expect(q).toBeCloseTo(1, 6))
    ;[k1, k2, p1, p2, k3].forEach((v, i) => expect(v).toBeCloseTo(ref.dist_k1k2p1p2k3[i], 5))
    expect(solve(published(mono.corners_px), false).rms).toBeCloseTo(0.19567, 5)
  })

  it('a pair of cameras: rms 0.207651 px and baseline 83.41358 mm held, 0.204727 and 83.33977 joint', () => {
    const side = (s: string) => stereo.pairs.map((p: string) => Float64Array.from(stereo.corners_px[`${s}${p}.jpg`].flat()))
    const [l, r] = [side('left'), side('right')]
    const [a, b] = [solve(l, false), solve(r, false)]
    const views = l.map((p: Float64Array, i: number) => [
      { points, pixels: p },
      { points, pixels: r[i] },
    ])
    const start = { cameras: [a.cameras[0], b.cameras[0]], rig: [identity(), multiply(b.poses[0], invertRigid(a.poses[0]))], poses: a.poses }
    const length = (x: BundleResult) => Math.hypot(x.rig[1][3], x.rig[1][7], x.rig[1][11])
    const held = bundleAdjust(views, start, { loss: 'none', holdCameras: true })
    expect([held.rms, length(held)].map((v) => v.toFixed(5))).toEqual(['0.20765', '83.41358'])
    expect(rotationAngleDeg(held.rig[1])).toBeCloseTo(0.42303, 4)
    const joint = bundleAdjust(views, start, { loss: 'none', free: [true, true, true, true, true, true, true, true, false] })
    expect([joint.rms, length(joint)].map((v) => v.toFixed(5))).toEqual(['0.20473', '83.33977'])
  })

  it('the images themselves: every corner within 0.02 px, rms within 0.2 % of the reference', () => {
    const board = plateSchema.parse({
      format: 'oak-gauge plate',
      version: 1,
      id: 'B',
      name: 'Board',
      pattern: 'chessboard',
      columns: 9,
      rows: 6,
      pitch: 25,
      certificate: { number: '-', date: '2020-01-01', expansion: 10 },
    })
    expect(platePoints(board)).toEqual(points)
    const pixels = Object.entries<number[][]>(mono.corners_px).map(([name, corners]) => {
      const { width, height, data } = jpeg.decode(fixture(`calibration/images/${name}`), { useTArray: true })
      const r = readPlate({ width, height, data: Uint8Array.from({ length: width * height }, (_, i) => data[4 * i]) }, board)
      expect([name, r.trouble, r.ids.length]).toEqual([name, null, 54])
      for (let i = 0; i < 54; i++) expect(Math.min(...corners.map(([x, y]) => Math.hypot(x - r.pixels[2 * i], y - r.pixels[2 * i + 1])))).toBeLessThan(0.02)
      return r.pixels
    })
    expect(Math.abs(solve(pixels, true).rms / mono.reference.left_all_13.k1k2p1p2k3.opencv.rms_px - 1)).toBeLessThan(0.002)
  })
})

describe('a pair of cameras from plate observations', () => {
  const poses = Array.from({ length: 20 }, (_, i) =>
    posed([330, 400, 480][i % 3], 0.5 * Math.sin(2.4 * i), 0.5 * Math.cos(1.7 * i), 0.4 * Math.sin(i), 60 * Math.sin(3.1 * i), 45 * Math.cos(2.2 * i)),
  )
  const observations = rehearseObservations(STEREO, PLATE, poses, 20, 3, 0.008)
  const input = { plate: PLATE, observations, width: 1024, height: 768 }

  it('20 poses: focal lengths to 0.01 %, principal point to 0.1 px (asked: 0.05 %, 0.5 px), and the stated uncertainty is honest', () => {
    const r = calibrateStereo(input)
    const errors: number[] = []
    for (const side of ['left', 'right'] as const)
      for (const k of ['fx', 'fy', 'cx', 'cy'] as const) {
        const e = r.stereo[side][k] - STEREO[side][k]
        expect(Math.abs(e)).toBeLessThan(k[0] === 'f' ? 1e-4 * STEREO[side][k] : 0.1)
        errors.push(e / r.uncertainty[side][k])
      }
    const rms = Math.sqrt(errors.reduce((s, e) => s + e * e, 0) / errors.length)
    expect([rms > 0.4, rms < 2]).toEqual([true, true])
    expect(Math.abs(r.baseline - Math.hypot(...[3, 7, 11].map((k) => STEREO.pose[k])))).toBeLessThan(5 * r.uncertainty.baseline)
    expect([r.poses.every((p) => !p.out), r.dots > 9000]).toEqual([true, true])
  })

  it('a pose during which the plate moved between the cameras is named and left out', () => {
    const wrong = observations.map((o, i) => (i === 7 ? { ...o, right: { ...o.right, pixels: o.right.pixels.map((v) => v + 1.5) } } : o))
    const r = calibrateStereo({ ...input, observations: wrong })
    expect(r.poses.flatMap((p, i) => (p.out ? [i] : []))).toEqual([7])
    expect(Math.abs(r.stereo.left.fx - LEFT.fx)).toBeLessThan(0.1)
  })

  it('single dots that are half hidden are left out', () => {
    const wrong = observations.map((o) => ({ ...o, left: { ...o.left, pixels: o.left.pixels.map((v, i) => (i === 40 ? v + 2 : v)) } }))
    const r = calibrateStereo({ ...input, observations: wrong })
    expect([r.leftOut >= 20, r.rms < 0.02]).toEqual([true, true])
  })

  const refused = (o: typeof observations) => {
    try {
      calibrateStereo({ ...input, observations: o })
    } catch (e) {
      return (e as { code: string }).code
    }
    return 'taken'
  }
  const noisy = (p: ArrayLike<number>[]) => rehearseObservations(STEREO, PLATE, p, 20, 9, 0.008)
  it('all poses of one tilt: the focal length is not determined', () =>
    expect(refused(noisy([300, 350, 400, 450, 480, 380, 420].map((z, i) => posed(z, 0, 0.0004 * i))))).toBe('poses-flat'))
  it('one tilted pose again and again', () =>
    expect(['poses-flat', 'poses-alike']).toContain(refused(noisy(Array.from({ length: 9 }, (_, i) => posed(400 + 0.2 * i, 0.3, 0.2))))))
  it('too few', () => expect(refused(observations.slice(0, 4))).toBe('too-few-poses'))

  const spec = {
    design: designedStereo({ width: 1024, height: 768, focal: 1050, baseline: 142, crossing: 400 }),
    limits: { reprojection: 0.05 },
    platePitch: [9, 16],
  } as unknown as ScannerSpec
  const on = new Date('2026-06-01')
  it('what the certificate of the plate says of its lengths is in the baseline, and nowhere else', () => {
    const exact = { ...input.plate, uncertainty: 0, certificate: { ...input.plate.certificate, expansion: 0 } }
    const one = calibrateStereo({ ...input, plate: exact })
    const rough = calibrateStereo({ ...input, plate: { ...exact, uncertainty: 0.1 } })
    const warm = calibrateStereo({ ...input, plate: { ...exact, certificate: { ...exact.certificate, expansion: 24 } } })
    const { columns, rows, pitch } = exact
    const relative = (Math.SQRT2 * 0.05) / (pitch * Math.hypot(columns - 1, rows - 1))
    const beside = (r: typeof one) => Math.sqrt(r.uncertainty.baseline ** 2 - one.uncertainty.baseline ** 2) / r.baseline
    expect(beside(rough) / relative).toBeCloseTo(1, 6)
    // half a kelvin of an aluminium plate
    expect(beside(warm)).toBeCloseTo(12e-6, 9)
    expect([rough.baseline, rough.uncertainty.left]).toEqual([one.baseline, one.uncertainty.left])
  })
  it('a plate file with a pitch wrong by 1 % is found by the baseline, against the last calibration and against the design', () => {
    const good = calibrateStereo(input)
    expect(judgeCalibration(good, spec, PLATE, on, null)).toEqual({ verdict: 'go', findings: [] })
    const file = plateSchema.parse({ ...PLATE, pitch: 12.12 })
    const bad = calibrateStereo({ ...input, plate: file })
    expect(bad.rms).toBeLessThan(0.03)
    for (const previous of [good, null]) {
      const j = judgeCalibration(bad, spec, file, on, previous)
      expect([j.verdict, j.findings.map((f) => f.message).join()]).toEqual(['no-go', expect.stringMatching(/1\.00 % larger|0\.\d\d % larger|1\.\d\d % larger/)])
    }
  })
  it('out of certificate, a pitch for another lens, a poor image: each is said', () => {
    const r = calibrateStereo(input)
    const old = judgeCalibration(r, spec, PLATE, new Date('2029-01-01'), r)
    expect([old.verdict, old.findings[0].message]).toEqual(['go', 'The certificate of Test plate 12 ended on 2028-01-10.'])
    expect(judgeCalibration({ ...r, rms: 0.2 }, spec, PLATE, on, r).verdict).toBe('no-go')
    expect(judgeCalibration({ ...r, covered: 0.3 }, spec, PLATE, on, r).findings[0].message).toMatch(/30 % of the image/)
    expect(judgeCalibration(r, { ...spec, platePitch: [2, 4] }, PLATE, on, r).findings[0].message).toMatch(/pitch of 12 mm does not suit/)
  })

  it('what it found measures points in space', () => {
    const r = calibrateStereo(input)
    const [l, rt] = [cameraToArray(r.stereo.left), cameraToArray(r.stereo.right)]
    const [uv, ur, out] = [2, 2, 4].map((n) => new Float64Array(n))
    const p = [35, -20, 410] as const
    project(cameraToArray(LEFT), ...p, uv)
    const q = multiply(STEREO.pose, [1, 0, 0, p[0], 0, 1, 0, p[1], 0, 0, 1, p[2], 0, 0, 0, 1])
    project(cameraToArray(STEREO.right), q[3], q[7], q[11], ur)
    triangulate(l, rt, r.stereo.pose, uv[0], uv[1], ur[0], ur[1], out)
    expect(Math.hypot(out[0] - p[0], out[1] - p[1], out[2] - p[2])).toBeLessThan(0.02)
    expect(out[3]).toBeLessThan(0.005)
  })
})
