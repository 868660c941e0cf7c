import { describe, expect, it } from '@jest/globals'
import { deflateSync } from 'fflate'
import { fromRotationVector, identity, invertRigid, isRigid, multiply, transformArray, transformPoint, type Mat4 } from '../src/base/mat4.ts'
import { seeded } from '../src/base/random.ts'
import { quietContext } from '../src/base/run.ts'
import { encodeFrame, roundFrame } from '../src/capture/framecode.ts'
import { bestHold, holderOf } from '../src/capture/holder.ts'
import { liveTracker } from '../src/capture/livetracker.ts'
import { growingSurface } from '../src/capture/surface.ts'
import { tableViews } from '../src/capture/tableviews.ts'
import { lineLength, wayOver } from '../src/capture/wayover.ts'
import { bytesSource } from '../src/formats/source.ts'
import { frameOfRecord, readRecording, recordingHead, recordOf } from '../src/formats/recording.ts'
import type { Item } from '../src/operations/operation.ts'
import { runOperation } from '../src/operations/registry.ts'
import { MATERIALS } from '../src/scanner/scene.ts'
import { takeShot } from '../src/scanner/shot.ts'
import { bodyToLeft, designedStereo } from '../src/scanner/spec.ts'
import type { Points } from '../src/shape/points.ts'
import { boundingBox } from '../src/shape/points.ts'
import { buildBvh } from '../src/space/bvh.ts'
import { distancesTo } from './help.ts'
import { tray } from './tray.ts'

/** A line laser on an arm, led over the tray strip by strip; each frame says where it was, some micrometres off. */
const optics = designedStereo({ width: 1024, height: 768, focal: 1500, baseline: 60, crossing: 130 })
const range = { near: 95, ideal: 130, far: 170 }
const OWN = { mm: 0.008, degrees: 0.001 }
const NOISE = 0.012
const arm = (every: number, upTo = Infinity, nudged?: { from: number; by: Mat4 }) => {
  const way = wayOver(boundingBox(tray.vertices), range, lineLength(optics.left, range.ideal))
  const n = Math.round(way.length / every)
  const bvh = buildBvh(tray, 'median')
  const random = seeded(5)
  return Array.from({ length: Math.min(n, upTo) }, (_, k) => {
    const pose = multiply(way.at(k / (n - 1)), invertRigid(bodyToLeft(optics)))
    const things = [{ kind: 'mesh' as const, mesh: tray, bvh, pose: nudged && k >= nudged.from ? nudged.by : identity(), material: MATERIALS.matte }]
    const { xyz } = takeShot({ range }, optics, optics, things, { pose, pattern: 'line', exposure: 1, along: 2, noise: 0.03, seed: 7 * k + 1 })
    const at = multiply(pose, fromRotationVector(0, 0, 1e-5 * random.gauss(), 0.006 * random.gauss(), 0.006 * random.gauss(), 0.006 * random.gauss()))
    return { time: 60 * k, xyz, at, pose }
  })
}
/** Of points to the part, mm. */
function offPart(xyz: Float32Array): { rms: number; worst: number } {
  const off = distancesTo(tray, xyz, 5)
  return { rms: Math.sqrt(off.reduce((s, d) => s + d * d, 0) / off.length), worst: off.reduce((a, d) => Math.max(a, d), 0) }
}

describe('what holds frames', () => {
  it.each<[string, boolean, boolean, boolean, string]>([
    ['a map before all', true, true, true, 'markers'],
    ['an arm with a line', false, true, true, 'own'],
    ['a turntable before an area, together with shape', false, true, false, 'both'],
    ['shape where nobody says anything', false, false, false, 'shape'],
  ])('%s', (_, map, own, lines, by) => expect(bestHold(map, own, lines)).toBe(by))
  it('what is not there cannot hold', () => {
    const o = { spacing: 1, noise: NOISE }
    expect(holderOf({ ...o, by: 'shape' })).toBeUndefined()
    for (const by of ['markers', 'both', 'own'] as const) expect(() => holderOf({ ...o, by })).toThrow(RangeError)
    const { covariance } = holderOf({ ...o, by: 'own', own: { mm: 0.01, degrees: 0.1 } })!.lay({ at: identity() }, identity())!
    expect(covariance[35]).toBeCloseTo(1e-4, 12)
    expect(Math.sqrt(covariance[0])).toBeCloseTo(Math.PI / 1800, 9)
  })
})

describe('single lines of an arm', () => {
  const frames = arm(2.2, 900)
  it('are all placed where it said they were, in its axes, and hold what it said', () => {
    const tracker = liveTracker({ by: 'own', own: OWN, lines: true, spacing: 1.5, noise: NOISE })
    const states = frames.map(({ time, xyz, at }) => tracker.feed({ time, xyz, at }))
    tracker.finish()
    expect(tracker.frames() / frames.length).toBeGreaterThan(0.95)
    // beside the part it sees nothing, and is held as well
    expect(states.filter((s) => s.state === 'lost' || s.state === 'finding').length).toBe(0)
    const last = states.findLast((s) => s.laid)!
    expect(Math.max(...last.laid!.sigmas)).toBeCloseTo(OWN.mm, 3)
    expect(Math.hypot(...[3, 7, 11].map((i) => last.pose[i] - frames.at(-1)!.at[i]))).toBeLessThan(1e-9)
  })
  it('a frame that does not say it waits; what says it again goes on', () => {
    const tracker = liveTracker({ by: 'own', own: OWN, lines: true, spacing: 1.5, noise: NOISE })
    const said = frames.slice(0, 60).map(({ time, xyz, at }, k) => tracker.feed(k >= 20 && k < 25 ? { time, xyz } : { time, xyz, at }).state)
    expect([...new Set(said.slice(20, 25))]).toEqual(['lost'])
    expect(said[40]).toBe('steady')
  })
  it('a part that is nudged contradicts a dozen times on end, which holds the recording', () => {
    const all = arm(2.2, 500, { from: 250, by: fromRotationVector(0, 0, 0, 0, 0, 0.6) })
    const tracker = liveTracker({ by: 'own', own: OWN, lines: true, spacing: 1.5, noise: NOISE })
    let most = 0
    for (const { time, xyz, at } of all) most = Math.max(most, tracker.feed({ time, xyz, at }).contradicts)
    expect(most).toBeGreaterThanOrEqual(12)
  })
  it('points of one line make no plane, those of two do', () => {
    const line = (y: number) => Float32Array.from({ length: 90 }, (_, i) => (i % 3 === 0 ? 0.05 * i : i % 3 === 1 ? y : -100 + 0.004 * Math.sin(31 * i)))
    const patch = new Float64Array(9)
    for (const lines of [true, false]) {
      const s = growingSurface(1, 0.01, lines)
      s.addFrame(line(0.2), identity(), 0)
      const alone = s.patchAt(2.2, 0.2, -100, 0, 0, 1, patch)
      const up = alone && Math.abs(patch[5]) > 0.99
      s.addFrame(line(1.3), identity(), 1)
      expect([lines, alone, up]).toEqual([lines, !lines, false])
      if (!lines) continue
      expect(s.patchAt(2.2, 0.2, -100, 0, 0, 1, patch)).toBe(true)
      expect(patch[5]).toBeGreaterThan(0.999)
    }
  })
})

describe('as a file', () => {
  const step = NOISE / 4
  const record = (f: ReturnType<typeof arm>[number], at: ArrayLike<number> | undefined = f.at) =>
    recordOf(f.time, [1, 2, 3, 6], deflateSync(encodeFrame({ xyz: roundFrame(f.xyz, step) }, step)), at)
  const head = { scanner: 'Rowan', calibration: '', optics, range, noise: NOISE, own: OWN, lines: true }
  const join = (parts: Uint8Array[]) => Buffer.concat(parts) as Uint8Array
  const frames = arm(6)
  const solve = async (bytes: Uint8Array, params: object = {}) => {
    const r = await runOperation(
      'solve-recording',
      { file: [{ kind: 'file', source: bytesSource('arm.frames', bytes) }] } as never,
      { spacing: 2, ...params },
      quietContext,
    )
    return { pass: (r.outputs['pass'] as Item<Points>[])[0].data, evidence: r.evidence }
  }
  it('where the scanner said it was comes back to the last bit, beside markers', () => {
    const f = frameOfRecord(record(frames[3]).subarray(4))
    expect([...f.at!]).toEqual([...frames[3].at])
    expect([f.markers.diameters[0], f.points().xyz.length]).toEqual([expect.closeTo(6, 4), frames[3].xyz.length])
    expect(frameOfRecord(recordOf(0, [], new Uint8Array(0)).subarray(4)).at).toBeUndefined()
  })
  it('a pose that bends or mirrors is refused in words', () => {
    for (const bad of [Float64Array.from(frames[0].at, (v, i) => (i < 3 ? -v : v)), Float64Array.from(frames[0].at, (v, i) => (i === 5 ? NaN : v))])
      expect(() => frameOfRecord(record(frames[0], bad).subarray(4))).toThrow(expect.objectContaining({ code: 'bad-recording' }))
    expect([isRigid(identity()), isRigid(Float64Array.of(2, 0, 0, 0, 0, 1, 0, 0, 0, 0, 1, 0, 0, 0, 0, 1))]).toEqual([true, false])
  })
  it('is solved by what the scanner says where there is nothing better, and lies on the part', async () => {
    const bytes = join([recordingHead(head), ...frames.map((f) => record(f))])
    expect((await readRecording(bytesSource('arm.frames', bytes))).head.own).toEqual(OWN)
    const { pass, evidence } = await solve(bytes)
    const { rms, worst } = offPart(pass.xyz)
    expect([rms < 0.025, worst < 0.3, pass.xyz.length > 20_000]).toEqual([true, true, true])
    expect(evidence.quantities.find((q) => q.id === 'frames-not-placed')!.value).toBeLessThan(0.05 * frames.length)
  })
  it('far from the base of the arm, too', async () => {
    const away = fromRotationVector(0.4, -0.3, 1, 2600, -1900, 800)
    const { pass } = await solve(join([recordingHead(head), ...frames.map((f) => record(f, multiply(away, f.at)))]))
    const back = invertRigid(away)
    const { rms, worst } = offPart(transformArray(back, pass.xyz, new Float32Array(pass.xyz.length)))
    expect([rms < 0.025, worst < 0.3, pass.xyz.length > 20_000]).toEqual([true, true, true])
  })
  it('and is refused by what it does not hold', async () => {
    const silent = join([
      recordingHead(head),
      ...frames.slice(0, 40).map((f) => recordOf(f.time, [], deflateSync(encodeFrame({ xyz: roundFrame(f.xyz, step) }, step)))),
    ])
    await expect(solve(silent, { by: 'own' })).rejects.toMatchObject({ code: 'no-own-pose' })
    await expect(solve(silent, { by: 'both' })).rejects.toMatchObject({ code: 'missing-input' })
  })
})

describe('the way of a line over a part', () => {
  const box = [-80, -60, 0, 80, 60, 40]
  const way = wayOver(box, range, lineLength(optics.left, range.ideal))
  it('goes on without jumps, and never nearer than the scanner may be', () => {
    for (let k = 0; k <= 3000; k++) {
      const p = way.at(k / 3000)
      expect(isRigid(p)).toBe(true)
      // from its place along its sight to the nearest corner
      const depths = [0, 1, 2, 3, 4, 5, 6, 7].map((c) => transformPoint(invertRigid(p), box[c & 1 ? 3 : 0], box[c & 2 ? 4 : 1], box[c & 4 ? 5 : 2]))
      const seen = depths.filter(([x, y]) => Math.abs(x) < 20 && Math.abs(y) < 33)
      for (const [, , z] of seen) expect(z).toBeGreaterThan(0.5 * range.near)
      if (k === 0) continue
      const before = way.at((k - 1) / 3000)
      expect(Math.hypot(p[3] - before[3], p[7] - before[7], p[11] - before[11])).toBeLessThan((3 * way.length) / 3000)
    }
  })
  it('sees its top and all four sides', () => {
    const looks = Array.from({ length: 400 }, (_, k) => way.at(k / 399)).map((p) => [p[2], p[6], p[10]])
    const from = (d: number[]) => looks.some((l) => l.every((v, i) => Math.abs(v - d[i]) < 0.01))
    const [c, s] = [Math.cos((35 * Math.PI) / 180), Math.sin((35 * Math.PI) / 180)]
    expect([from([0, 0, -1]), from([0, c, -s]), from([0, -c, -s]), from([c, 0, -s]), from([-c, 0, -s])]).toEqual([true, true, true, true, true])
  })
})

describe('views that a turntable gives', () => {
  it('go round its axis from where a shot was taken, without those that are there already', () => {
    const at = multiply(fromRotationVector(0, 0, Math.PI / 2), Float64Array.of(0, 0.6, -0.8, 240, 1, 0, 0, 0, 0, -0.8, -0.6, 180, 0, 0, 0, 1))
    // as it lies in the model: elsewhere
    const onModel = fromRotationVector(0.3, -0.2, 1, 50, 60, 70)
    const views = tableViews({ pose: multiply(onModel, at), at }, at, 90, [0, 90, 182])
    expect(views.map((v) => v.turn)).not.toEqual(expect.arrayContaining([0]))
    expect([views.length, views.some((v) => [90, 180].includes(v.turn))]).toEqual([45, false])
    for (const v of views) {
      const a = (v.turn * Math.PI) / 180
      const expected = transformPoint(onModel, 240 * Math.cos(a), 240 * Math.sin(a), 180)
      for (let i = 0; i < 3; i++) expect(v.at[i]).toBeCloseTo(expected[i], 6)
    }
  })
})
