import { beforeAll, describe, expect, it } from '@jest/globals'
import { fromRotationVector, invertRigid, multiply, transformArray, transformPoint, type Mat4 } from '../src/base/mat4.ts'
import { seeded } from '../src/base/random.ts'
import { quietContext } from '../src/base/run.ts'
import { closeLoops, type TrackedFrame } from '../src/capture/closing.ts'
import { relayFrames } from '../src/capture/relay.ts'
import { lookingAt } from '../src/scanner/seemarkers.ts'
import { triangleNormal } from '../src/shape/mesh.ts'
import { oakError } from './help.ts'
import { tray } from './tray.ts'

const FRAMES = 96
const NOISE = 0.03

/** Places on the tray, evenly by area, and its normals there. */
function places(n: number, seed: number): { xyz: number[][]; normals: number[][] } {
  const { vertices: v, triangles: t } = tray
  const at = (i: number) => [v[3 * i], v[3 * i + 1], v[3 * i + 2]]
  const corners = Array.from({ length: t.length / 3 }, (_, k) => [0, 1, 2].map((c) => at(t[3 * k + c])))
  const area = corners.map(([a, b, c]) => {
    const [u, w] = [b, c].map((p) => p.map((x, k) => x - a[k]))
    return Math.hypot(u[1] * w[2] - u[2] * w[1], u[2] * w[0] - u[0] * w[2], u[0] * w[1] - u[1] * w[0]) / 2
  })
  const whole = area.reduce((s, a) => s + a, 0)
  const r = seeded(seed)
  const xyz: number[][] = []
  const normals: number[][] = []
  area.forEach((a, k) => {
    const many = Math.floor((n * a) / whole + r.next())
    for (let i = 0; i < many; i++) {
      let [p, q] = [r.next(), r.next()]
      if (p + q > 1) [p, q] = [1 - p, 1 - q]
      const [A, B, C] = corners[k]
      xyz.push(A.map((x, c) => x + p * (B[c] - x) + q * (C[c] - x)))
      normals.push([...triangleNormal(v, t, k)])
    }
  })
  return { xyz, normals }
}

/** A hand once round the tray; each frame sees what faces it on its own side, so that only neighbours and both ends have surface in common. */
function round(): { truth: Mat4; xyz: Float32Array }[] {
  const r = seeded(4)
  return Array.from({ length: FRAMES }, (_, k) => {
    const a = (2 * Math.PI * k) / (FRAMES - 1)
    const eye = [380 * Math.cos(a), 380 * Math.sin(a), 320]
    const truth = lookingAt(eye, [0, 0, 5])
    const { xyz, normals } = places(5000, 100 + k)
    const seen: number[] = []
    xyz.forEach((p, i) => {
      const n = normals[i]
      const away = eye.map((e, c) => e - p[c])
      const facing = (away[0] * n[0] + away[1] * n[1] + away[2] * n[2]) / Math.hypot(...away)
      if (facing < 0.3 || p[0] * Math.cos(a) + p[1] * Math.sin(a) < -15) return
      const e = NOISE * r.gauss()
      seen.push(...p.map((x, c) => x + e * n[c]))
    })
    return { truth, xyz: transformArray(invertRigid(truth), Float32Array.from(seen), new Float32Array(seen.length)) }
  })
}

/** mm at the tray's corners */
const apart = (a: Mat4, b: Mat4) => {
  const d = multiply(a, invertRigid(b))
  return Math.max(...[-70, 70].flatMap((x) => [-45, 45].map((y) => Math.hypot(...transformPoint(d, x, y, 5).map((v, i) => v - [x, y, 5][i])))))
}

describe('what was tracked is solved together', () => {
  let recorded: ReturnType<typeof round>
  let drifted: TrackedFrame[]
  beforeAll(() => {
    recorded = round()
    // half a millimetre and a tenth of a degree by the end
    drifted = recorded.map(({ truth, xyz }, k) => {
      const s = k / (FRAMES - 1)
      return { time: 60 * k, xyz, pose: multiply(fromRotationVector(0.0008 * s, -0.0006 * s, 0.0015 * s, 0.3 * s, -0.2 * s, 0.3 * s), truth) }
    })
  })

  it('the ends meet: drift that no frame shows is found where the path comes back, and shared out', async () => {
    const ends = apart(drifted[FRAMES - 1].pose, recorded[FRAMES - 1].truth)
    expect(ends).toBeGreaterThan(0.5)
    const c = await closeLoops(drifted, { frames: 12, tracking: 0.2 }, quietContext)
    expect([c.poses.length, c.pieces.length, c.pieces[0].from, c.pieces[7].to]).toEqual([FRAMES, 8, 0, FRAMES])
    // against the truth as its first piece lies
    const first = multiply(c.poses[6], invertRigid(recorded[6].truth))
    const off = c.poses.map((p, k) => apart(p, multiply(first, recorded[k].truth)))
    expect(off[FRAMES - 1]).toBeLessThan(0.04)
    expect(Math.max(...off)).toBeLessThan(0.06)
    // it says what it did
    expect(c.seam.before / ends).toBeGreaterThan(0.3)
    expect(c.seam.before / ends).toBeLessThan(1.2)
    expect(c.seam.after).toBeLessThan(0.02)
    expect(c.free).toBe(0)
    expect(Math.max(...c.moved)).toBeGreaterThan(0.2)
    // no steps where pieces meet
    const steps = c.poses.slice(1).map((p, k) => apart(multiply(p, invertRigid(c.poses[k])), multiply(recorded[k + 1].truth, invertRigid(recorded[k].truth))))
    expect(Math.max(...steps)).toBeLessThan(0.02)
  }, 120_000)

  it('a found place begins a piece: its error is not shared with what came before', async () => {
    const jumped = recorded.map(({ truth, xyz }, k): TrackedFrame => {
      const late = k >= 40
      return { time: 60 * k, xyz, span: late ? 1 : 0, pose: late ? multiply(fromRotationVector(0, 0, 0.001, 0.2, 0, 0.1), truth) : truth }
    })
    const c = await closeLoops(jumped, { frames: 12, tracking: 0.2 }, quietContext)
    expect(c.pieces.map((p) => p.from)).toContain(40)
    const first = multiply(c.poses[6], invertRigid(recorded[6].truth))
    expect(Math.max(...c.poses.map((p, k) => apart(p, multiply(first, recorded[k].truth))))).toBeLessThan(0.06)
  }, 120_000)

  it('too few frames are refused', async () => {
    const e = await oakError(closeLoops(drifted.slice(0, 23), {}, quietContext))
    expect([e.code, e.remedy]).toEqual(['too-short', 'Record at least 24 of them.'])
    // and as many as it asks for are enough
    const c = await closeLoops(drifted.slice(0, 24), {}, quietContext)
    expect([c.poses.length, c.pieces.length]).toEqual([24, 2])
    expect(Number.isNaN(c.seam.before)).toBe(true)
  })

  it('single frames that were laid badly come to where the others are', async () => {
    const truth = recorded.map((f) => f.truth)
    const few = recorded.map(({ truth, xyz }, k): TrackedFrame => ({ time: 60 * k, xyz, pose: truth }))
    const poses = truth.map((p, k) => (k % 24 === 5 ? multiply(fromRotationVector(0, 0, 0.0006, 0.12, -0.1, 0.1), p) : p))
    const r = await relayFrames(few, poses, { spacing: 1.5, noise: NOISE }, quietContext)
    const off = r.poses.map((p, k) => apart(p, truth[k]))
    expect(apart(poses[5], truth[5])).toBeGreaterThan(0.2)
    expect(Math.max(...off)).toBeLessThan(0.06)
    expect([5, 29, 53, 77].every((k) => r.moved[k] > 0.1 && off[k] < 0.06)).toBe(true)
    expect(Math.max(...r.sigmas)).toBeLessThan(0.05)
  }, 60_000)
})
