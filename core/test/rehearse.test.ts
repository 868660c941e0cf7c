import { describe, expect, it } from '@jest/globals'
import { identity } from '../src/base/mat4.ts'
import { quietContext } from '../src/base/run.ts'
import { rehearseRecording } from '../src/capture/rehearse.ts'
import { solveRecording } from '../src/capture/solverecording.ts'
import { inspectRecordingOperation as inspect } from '../src/operations/inspect-recording.ts'
import { lineNoise } from '../src/scanner/linenoise.ts'
import { makePoints, type Points } from '../src/shape/points.ts'
import type { Item } from '../src/operations/operation.ts'
import { planMarkersOperation } from '../src/operations/plan-markers.ts'
import { rehearseRecordingOperation as rehearse } from '../src/operations/rehearse-recording.ts'
import { designedStereo } from '../src/scanner/spec.ts'
import { makeMesh, type Mesh } from '../src/shape/mesh.ts'
import { boxSolid, cylinderSolid } from '../src/shape/solids.ts'

const optics = designedStereo({ width: 640, height: 480, focal: 660, baseline: 140, crossing: 400 })
const scanner = { optics, range: { near: 250, ideal: 400, far: 550 }, pattern: 'area' as const, stride: 3, located: 0.02, rate: 15 }
/** a low hip roof beside its middle: from above all its four slopes are seen, and hold it every way. Its underside is face 1 */
const corners = [-60, -45, 0, 60, -45, 0, 60, 45, 0, -60, 45, 0, -15, 10, 45, 20, 10, 45]
const roof = [
  [0, 2, 1, 0, 3, 2],
  [0, 1, 5, 0, 5, 4],
  [1, 2, 5],
  [2, 3, 4, 2, 4, 5],
  [3, 0, 4],
]
const part: Item<Mesh> = {
  name: 'roof',
  data: makeMesh({
    vertices: Float32Array.from(corners),
    triangles: Uint32Array.from(roof.flat()),
    faces: Uint32Array.from(roof.flatMap((f, i) => Array.from({ length: f.length / 3 }, () => i))),
  }),
  pose: identity(),
}
const settings = (o: object = {}) =>
  rehearse.params.parse({ frames: 90, seconds: 20, spacing: 2, scanner: { ...scanner, distance: { error: 0.02, U: 0.01 } }, ...o })
/** As above, once for all who look at it. */
let usual: ReturnType<typeof rehearse.run> | undefined
const foretelling = () => (usual ??= rehearse.run({ shape: [part] }, settings(), quietContext))
const value = (e: { quantities: { id: string; value: number | string }[] }, id: string) => e.quantities.find((q) => q.id === id)?.value

describe('a recording that nobody has made yet', () => {
  it('is made of frames of a scanner that is led round, the same ones every time, and fewer than a real one has', async () => {
    const scene = { part: part.data }
    const a = await rehearseRecording(scene, scanner, { seconds: 20, frames: 12 }, quietContext)
    const b = await rehearseRecording(scene, scanner, { seconds: 20, frames: 12 }, quietContext)
    expect([a.frames.length, a.expected.frames]).toEqual([12, 300])
    expect(a.frames.map((f) => [...f.points().xyz])).toEqual(b.frames.map((f) => [...f.points().xyz]))
    const points = a.frames.reduce((s, f) => s + f.points().xyz.length / 3, 0)
    expect(a.expected.points).toBe(Math.round((points * 300) / 12))
    // some bytes a point, as recordings keep it
    expect(a.expected.bytes / a.expected.points).toBeGreaterThan(1)
    expect(a.expected.bytes / a.expected.points).toBeLessThan(9)
    expect(a.dark + a.bright).toBeLessThan(0.05)
    const black = await rehearseRecording({ ...scene, surface: 'dark' }, scanner, { seconds: 20, frames: 4, exposure: 0.3 }, quietContext)
    expect(black.dark).toBeGreaterThan(0.5)
    // with the table there is more to be seen
    const table = await rehearseRecording({ ...scene, table: true }, scanner, { seconds: 20, frames: 12 }, quietContext)
    expect(table.expected.points).toBeGreaterThan(1.5 * a.expected.points)
  })

  it('by shape: what is seen from above is covered, what looks down is not and is named, and U is what flags would state', async () => {
    const { evidence: e } = await foretelling()
    const under = e.faces!.find((f) => f.of.startsWith('face (1)'))!
    expect([under.covered, under.u]).toEqual([0, 'unknown'])
    const slopes = e.faces!.filter((f) => f !== under)
    expect(slopes.map((f) => f.covered > 0.95)).toEqual([true, true, true, true])
    // all but the underside
    expect(Number(value(e, 'covered'))).toBeCloseTo((100 * slopes.reduce((s, f) => s + f.area, 0)) / e.faces!.reduce((s, f) => s + f.area, 0), -1)
    expect(e.warnings.some((w) => w.includes('face (1)') && w.startsWith('Looks down'))).toBe(true)
    const known = e.faces!.filter((f) => typeof f.u === 'number')
    expect(known.length).toBeGreaterThan(2)
    // of the scanner alone 0.0126: nothing is known better
    for (const f of known) expect(Number(f.u)).toBeGreaterThanOrEqual(0.0125)
    expect(Number(value(e, 'deviation-rms'))).toBeLessThan(0.1)
    expect(value(e, 'frames')).toBe(300)
    expect(e.timeline!.seconds).toBeGreaterThan(19)
    expect(value(e, 'foretold-u')).toBeCloseTo(Math.max(...known.map((f) => 2 * Number(f.u))), 9)
  }, 120_000)

  it('a tolerance it cannot decide is said, and so is a scanner that was never verified', async () => {
    const { evidence: fine } = await rehearse.run({ shape: [part] }, settings({ frames: 45, limit: 0.01 }), quietContext)
    expect(value(fine, 'faces-decidable')).toBe(0)
    expect(fine.warnings.some((w) => w.startsWith('A tolerance of ± 0.01 mm cannot be decided'))).toBe(true)
    const { evidence: unknown } = await rehearse.run({ shape: [part] }, settings({ frames: 45, scanner }), quietContext)
    expect([value(unknown, 'foretold-u'), value(unknown, 'faces-decidable')]).toEqual(['unknown', 0])
    expect(unknown.warnings.some((w) => w.includes('verify it'))).toBe(true)
  }, 120_000)

  it('what was recorded is looked at in the same way, and comes to what was foretold', async () => {
    const { evidence: foretold } = await foretelling()
    const real = await rehearseRecording({ part: part.data }, scanner, { seconds: 20, frames: 150, seed: 77 }, quietContext)
    const solved = await solveRecording(real.frames, { by: 'shape', spacing: 2, noise: lineNoise(optics, 400) }, quietContext)
    // in the axes of its first frame
    const pass: Item<Points> = { name: 'pass', data: solved.points, pose: identity() }
    const params = inspect.params.parse({ spacing: 2, distance: { error: 0.02, U: 0.01 } })
    const { evidence: e, outputs } = await inspect.run({ pass: [pass], nominal: [part] }, params, quietContext)
    expect(outputs).toEqual({})
    expect(Math.abs(Number(value(e, 'covered')) - Number(value(foretold, 'covered')))).toBeLessThan(5)
    expect(Number(value(e, 'deviation-rms'))).toBeLessThan(0.1)
    for (const f of foretold.faces!) {
      const came = e.faces!.find((x) => x.face === f.face)!
      expect(Math.abs(came.covered - f.covered)).toBeLessThan(0.1)
      if (typeof f.u !== 'number' || typeof came.u !== 'number') continue
      expect(f.u / came.u).toBeGreaterThan(0.5)
      expect(f.u / came.u).toBeLessThan(2)
    }
    const nothing: Item<Points> = { name: 'none', data: makePoints({ xyz: new Float32Array(0) }), pose: identity() }
    await expect(async () => inspect.run({ pass: [nothing], nominal: [part] }, params, quietContext)).rejects.toMatchObject({ code: 'empty' })
  }, 120_000)

  it('by markers: held to some micrometres where the plan is; without a plan it is refused', async () => {
    const { outputs } = await planMarkersOperation.run({ shape: [part] }, planMarkersOperation.params.parse({ where: 'around' }), quietContext)
    const { evidence: e } = await rehearse.run({ shape: [part], plan: outputs['plan'] }, settings({ by: 'markers' }), quietContext)
    expect(Number(value(e, 'frames-not-placed'))).toBeLessThan(30)
    expect(Number(value(e, 'frame-sigma-median'))).toBeLessThan(0.05)
    await expect(async () => rehearse.run({ shape: [part] }, settings({ by: 'markers' }), quietContext)).rejects.toMatchObject({ code: 'missing-input' })
  }, 120_000)

  it('before a turntable, and under the line of an arm: held by what they say', async () => {
    const own = { mm: 0.02, degrees: 0.004 }
    const table = { ...scanner, own, way: 'table' as const, stride: 4, distance: { error: 0.02, U: 0.01 } }
    const run = (s: object, o: object) => rehearse.run({ shape: [part] }, rehearse.params.parse({ spacing: 2, scanner: s, ...o }), quietContext)
    const shots = (await run(table, { by: 'both', shots: 6 })).evidence
    expect(['frames', 'frames-not-placed'].map((id) => value(shots, id))).toEqual([6, 0])
    expect(Number(value(shots, 'seconds'))).toBeLessThan(15)
    // all but the underside
    expect(Number(value(shots, 'covered'))).toBeGreaterThan(50)
    expect(Number(value(shots, 'deviation-rms'))).toBeLessThan(0.1)
    expect(shots.faces!.filter((f) => f.covered > 0.9).every((f) => f.parts!.some((p) => p.source === 'frames' && Number(p.u) > 0.005))).toBe(true)
    const arm = {
      ...scanner,
      own: { mm: 0.008, degrees: 0.001 },
      way: 'arm' as const,
      pattern: 'line' as const,
      along: 4,
      rate: 8,
      distance: { error: 0.02, U: 0.01 },
    }
    const lines = (await run(arm, { by: 'own', frames: 500 })).evidence
    expect(Number(value(lines, 'covered'))).toBeGreaterThan(50)
    expect(Number(value(lines, 'frames-not-placed')) / Number(value(lines, 'frames'))).toBeLessThan(0.1)
    await expect(async () => run(scanner, { by: 'own' })).rejects.toMatchObject({ code: 'missing-input' })
  }, 120_000)

  it('a plate and a turned part are free by shape: nothing is foretold of them, and markers are asked for', async () => {
    for (const free of [boxSolid(200, 150, 5), cylinderSolid(80, 60)]) {
      const { evidence: e } = await rehearse.run({ shape: [{ name: 'free', data: free, pose: identity() }] }, settings({ frames: 30 }), quietContext)
      expect(Number(value(e, 'frames-not-placed'))).toBeGreaterThan(200)
      expect(e.warnings[0]).toMatch(/markers/)
      expect(value(e, 'foretold-u')).toBe('unknown')
    }
  }, 120_000)

  it('an empty part is refused', async () => {
    const empty = makeMesh({ vertices: new Float32Array(0), triangles: new Uint32Array(0) })
    await expect(async () => rehearse.run({ shape: [{ name: 'nothing', data: empty, pose: identity() }] }, settings(), quietContext)).rejects.toMatchObject({
      code: 'empty',
    })
  })

  it('can be cancelled', async () => {
    const signal = { aborted: false }
    const ctx = { ...quietContext, signal, progress: (d: number) => void (signal.aborted ||= d > 0.1) }
    await expect(rehearse.run({ shape: [part] }, settings(), ctx)).rejects.toThrow(/cancelled/i)
  })
})
