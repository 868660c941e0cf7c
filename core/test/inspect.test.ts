import { describe, expect, test } from '@jest/globals'
import { f32 } from '../src/base/arrays.ts'
import { fromRotationVector, identity, multiply, poseDifference, transformPoint, translation } from '../src/base/mat4.ts'
import { seeded } from '../src/base/random.ts'
import { quietContext } from '../src/base/run.ts'
import { bestFit } from '../src/datum/bestfit.ts'
import type { Evidence, Field, Item } from '../src/operations/operation.ts'
import { runOperation } from '../src/operations/registry.ts'
import { makeMesh, transformMesh, type Mesh } from '../src/shape/mesh.ts'
import { boundingBox, makePoints, type Points } from '../src/shape/points.ts'
import { sampleMesh } from '../src/shape/sample.ts'
import { boxMesh, oakError, sphereMesh, value } from './help.ts'

const item = (data: Mesh, pose = identity(), name = 'part'): Item<Mesh> => ({ name, data, pose })

/** A block of 60 x 40 x 20 mm, its top tilted up by `worn` mm at x = 60, as points with noise. */
function scanOfBlock(worn: number, noise: number, seed = 5): Points {
  const s = sampleMesh(boxMesh(60, 40, 20), 24_000, seed)
  const r = seeded(seed)
  const xyz = f32(s.xyz.length)
  for (let i = 0; i < xyz.length; i += 3) {
    const n = noise * r.gauss()
    for (let k = 0; k < 3; k++) xyz[i + k] = s.xyz[i + k] + n * s.normals[i + k]
    if (s.normals[i + 2] > 0.5) xyz[i + 2] += (worn * s.xyz[i]) / 60
  }
  return makePoints({ xyz, normals: s.normals })
}
/** The block with a number on each face: 0 left, 1 right, 2 front, 3 back, 4 bottom, 5 top. */
const block = () => makeMesh({ ...boxMesh(60, 40, 20), faces: new Uint32Array(12).map((_, i) => i >> 1) })
const off = multiply(translation(1.2, -0.8, 0.5), fromRotationVector(0.006, -0.01, 0.012))

describe('best fit to the chosen faces', () => {
  test('a worn face does not pull the fit when it is not chosen; least squares over all is pulled', async () => {
    const measured = { name: 'scan', data: scanOfBlock(0.3, 0.01), pose: off }
    const chosen = await bestFit(measured, item(block()), { faces: [0, 1, 2, 3, 4] }, quietContext)
    const plain = await bestFit(measured, item(block()), { robust: false }, quietContext)
    const box = boundingBox(measured.data.xyz)
    expect(poseDifference(chosen.pose, identity(), box).max).toBeLessThan(0.005)
    expect(poseDifference(plain.pose, identity(), box).max).toBeGreaterThan(0.03)
    // the worn face is then read for what it is
    const at = (x: number) => {
      const p = transformPoint(chosen.pose, x, 20, 20 + (0.3 * x) / 60)
      return p[2] - 20
    }
    expect(at(60)).toBeCloseTo(0.3, 2)
    expect(at(0)).toBeCloseTo(0, 2)
  })
  test('robust over all faces comes close to it without being told', async () => {
    const measured = { name: 'scan', data: scanOfBlock(0.3, 0.01), pose: off }
    const r = await bestFit(measured, item(block()), {}, quietContext)
    expect(poseDifference(r.pose, identity(), boundingBox(measured.data.xyz)).max).toBeLessThan(0.02)
    expect(r.used).toBeLessThan(r.total)
  })
  test('one face alone holds three motions of six: the others are told, and left where they were', async () => {
    const measured = { name: 'scan', data: scanOfBlock(0, 0.005), pose: translation(0.4, 0.3, 0.2) }
    const r = await bestFit(measured, item(block()), { faces: [5], reach: 1 }, quietContext)
    expect(r.free.map((f) => f.kind).sort()).toEqual(['slide', 'slide', 'turn'])
    expect(r.pose[11]).toBeCloseTo(0, 2)
    expect([r.pose[3], r.pose[7]].map((v) => Math.round(10 * v) / 10)).toEqual([0.4, 0.3])
  })
  test('the nominal may lie anywhere in the job: the part is laid onto it', async () => {
    const pose = fromRotationVector(0.7, -0.4, 1.1, 200, 50, -30)
    const measured = { name: 'scan', data: scanOfBlock(0, 0.005), pose: multiply(pose, off) }
    const r = await bestFit(measured, item(block(), pose), {}, quietContext)
    expect(poseDifference(r.pose, pose, boundingBox(measured.data.xyz)).max).toBeLessThan(0.005)
  })
  test('a mesh is fitted as its points are', async () => {
    const r = await bestFit(item(boxMesh(60, 40, 20), off), item(block()), {}, quietContext)
    expect(poseDifference(r.pose, identity(), boundingBox(boxMesh(60, 40, 20).vertices)).max).toBeLessThan(2e-3)
  })
  test('a block that looks the same after half a turn says so', async () => {
    const measured = { name: 'scan', data: scanOfBlock(0, 0.02), pose: fromRotationVector(1, 2, 0.5, 90, 0, 0) }
    expect((await bestFit(measured, item(block()), { byShape: true }, quietContext)).ambiguous).toBe(true)
  })
  test('faces that are not there, and a nominal without faces', async () => {
    const measured = { name: 'scan', data: scanOfBlock(0, 0.02), pose: identity() }
    for (const nominal of [block(), boxMesh(60, 40, 20)]) {
      const e = await oakError(bestFit(measured, item(nominal), { faces: [77] }, quietContext))
      expect([e.code, e.remedy !== '']).toEqual(['no-faces', true])
    }
  })
  test('the operation keeps the mesh and changes its pose; free motions become warnings', async () => {
    const part = item(boxMesh(60, 40, 20), translation(0.3, 0, 0.1))
    const r = await runOperation('best-fit', { measured: [part], nominal: [item(block())] }, { faces: [5], byShape: false, reach: 1 }, quietContext)
    const out = (r.outputs['measured'] as Item<Mesh>[])[0]
    expect(out.data).toBe(part.data)
    // one line that names two slides and a turn, and the same motions for the arrows
    expect(r.evidence.warnings).toEqual([expect.stringMatching(/^Not held by the chosen faces: slide along [xy], slide along [xy], turn about z\./)])
    expect(r.evidence.motions?.map((m) => [m.kind, m.of])).toEqual([
      ['slide', [part.name]],
      ['slide', [part.name]],
      ['turn', [part.name]],
    ])
    expect(r.evidence.quantities.find((q) => q.id === 'free-directions')?.value).toContain('slide along')
  })
})

describe('deviation of a part from its nominal', () => {
  /** The block, longer by 0.2 mm at x = 60: 800 mm2 of 8800 too large. */
  const longer = () => transformMesh(boxMesh(60.2, 40, 20), identity())
  test('shares by area, plus outside and minus inside', async () => {
    const nominal = item(boxMesh(60, 40, 20), identity(), 'nominal')
    // 0.05 mm too high as a whole: sides within, top extra, bottom missing
    const r = await runOperation(
      'deviation',
      { measured: [item(sphereMesh(10.2, 80))], nominal: [item(sphereMesh(10, 200))] },
      { limit: 0.1, scale: 0.5 },
      quietContext,
    )
    expect(value(r.evidence, 'extra-beyond')).toBe(100)
    expect(value(r.evidence, 'deviation-mean')).toBeCloseTo(0.2, 2)
    const small = await runOperation('deviation', { measured: [item(sphereMesh(9.7, 80))], nominal: [item(sphereMesh(10, 200))] }, { limit: 0.1 }, quietContext)
    expect(value(small.evidence, 'missing-beyond')).toBe(100)
    expect(value(small.evidence, 'largest-missing')).toBeCloseTo(-0.3, 1)
    const one = await runOperation('deviation', { measured: [item(longer())], nominal: [nominal] }, { limit: 0.1 }, quietContext)
    expect(value(one.evidence, 'largest-extra')).toBeCloseTo(0.2, 4)
    expect(value(one.evidence, 'largest-missing')).toBeCloseTo(0, 6)
  })
  test('the shares of the distribution add up to one, weights by area', async () => {
    const r = await runOperation('deviation', { measured: [item(sphereMesh(10.05, 60))], nominal: [item(sphereMesh(10, 200))] }, { scale: 0.2 }, quietContext)
    const h = r.evidence.histogram as NonNullable<Evidence['histogram']>
    expect(h.edges).toHaveLength(h.shares.length + 1)
    expect(h.shares.reduce((s, v) => s + v, 0)).toBeCloseTo(1, 6)
    const peak = h.shares.indexOf(Math.max(...h.shares))
    expect(h.edges[peak]).toBeLessThanOrEqual(0.051)
    expect(h.edges[peak + 1]).toBeGreaterThanOrEqual(0.045)
  })
  test('further away than asked there is no value, and that is said', async () => {
    const two = makeMesh({
      vertices: Float32Array.of(...boxMesh(10, 10, 10).vertices, ...boxMesh(10, 10, 10).vertices.map((v, i) => v + (i % 3 === 0 ? 100 : 0))),
      triangles: Uint32Array.of(...boxMesh(1, 1, 1).triangles, ...boxMesh(1, 1, 1).triangles.map((v) => v + 8)),
    })
    const r = await runOperation('deviation', { measured: [item(two)], nominal: [item(boxMesh(10, 10, 10))] }, { maxDistance: 5 }, quietContext)
    const values = (r.outputs['field'] as Item<Field>[])[0].data.values
    expect([...values.subarray(0, 8)].every((v) => Math.abs(v) < 1e-6)).toBe(true)
    expect([...values.subarray(8)].every(Number.isNaN)).toBe(true)
    expect(r.evidence.warnings.join()).toContain('8 places')
    expect(value(r.evidence, 'within')).toBe(100)
  })
  test('poses of both count', async () => {
    const pose = fromRotationVector(0.3, 0.2, -0.9, 40, 5, 6)
    const lifted = multiply(pose, translation(0, 0, 0.15))
    const r = await runOperation('deviation', { measured: [item(sphereMesh(10, 60), lifted)], nominal: [item(sphereMesh(10, 200), pose)] }, {}, quietContext)
    expect(value(r.evidence, 'largest-extra')).toBeCloseTo(0.15, 2)
    expect(value(r.evidence, 'deviation-mean')).toBeCloseTo(0, 2)
  })
  test('points without triangles count one each', async () => {
    const p = makePoints({ xyz: Float32Array.of(5, 5, 10.3, 5, 5, 10, 5, 5, 9.8) })
    const r = await runOperation('deviation', { measured: [{ name: 'p', data: p, pose: identity() }], nominal: [item(boxMesh(10, 10, 10))] }, {}, quietContext)
    expect(value(r.evidence, 'within')).toBeCloseTo(100 / 3, 6)
    expect(value(r.evidence, 'missing-beyond')).toBeCloseTo(100 / 3, 6)
  })
})
