import { describe, expect, test } from '@jest/globals'
import { f32 } from '../src/base/arrays.ts'
import { fromRotationVector, identity, multiply, transformPoint, translation } from '../src/base/mat4.ts'
import { seeded } from '../src/base/random.ts'
import { quietContext } from '../src/base/run.ts'
import type { Evidence, Field, Item } from '../src/operations/operation.ts'
import { runOperation } from '../src/operations/registry.ts'
import type { Mesh } from '../src/shape/mesh.ts'
import type { Points } from '../src/shape/points.ts'
import type { PoseUncertainty } from '../src/uncertainty/pose.ts'
import { boxMesh, sphereMesh, value } from './help.ts'
import { patch as plane } from './shapes.ts'

const item = <M extends Mesh | Points>(data: M, pose = identity(), name = 'part') => ({ name, data, pose })
const field = (values: Float32Array): Item<Field> => ({ name: 'd', data: { kind: 'field', values, unit: 'mm' }, pose: identity() })
const diagonal = (...d: number[]) => Array.from({ length: 36 }, (_, k) => (k % 7 === 0 ? d[k / 7] : 0))

const pose = (of: string, u: number): PoseUncertainty => ({ of, about: [0, 0, 0], covariance: diagonal(0, 0, 0, u * u, u * u, u * u) })

describe('a flag', () => {
  const part = sphereMesh(10, 80)
  const of = (f: (x: number, y: number, z: number) => number) => {
    const values = f32(part.vertices.length / 3)
    for (let i = 0; i < values.length; i++) values[i] = f(part.vertices[3 * i], part.vertices[3 * i + 1], part.vertices[3 * i + 2])
    return field(values)
  }
  const known = { lineage: { scanner: 0.004, alignment: [pose('a', 0.003)], placing: pose('m', 0.002) } }
  const flag = (f: Item<Field>, params: object, on: Item = item(part)) =>
    runOperation('flag', { field: [f], on: [on], nominal: [item(boxMesh(200, 200, 200), translation(-100, -100, 9))] }, { ...known, ...params }, quietContext)
  const main = (e: Evidence) => e.quantities[0]
  test('mean over the patch, verdict in words, uncertainty from all its parts', async () => {
    const step = of((x) => (x > 0 ? 0.3 : -0.25))
    const extra = await flag(step, { at: [10, 0, 0], label: 'nose' })
    expect(main(extra.evidence)).toMatchObject({ id: 'deviation', of: 'nose' })
    expect(value(extra.evidence, 'deviation', 'nose')).toBeCloseTo(0.3, 6)
    expect(value(extra.evidence, 'verdict')).toBe('extra')
    expect(value((await flag(step, { at: [-10, 0, 0] })).evidence, 'verdict')).toBe('missing')
    expect(value((await flag(step, { at: [-10, 0, 0], limit: 0.5 })).evidence, 'verdict')).toBe('within limits')
    const parts = Object.fromEntries((main(extra.evidence).parts ?? []).map((p) => [p.source, p.u]))
    expect([parts['scanner'], parts['alignment'], parts['placing'], parts['nominal']]).toEqual([0.004, expect.closeTo(0.003, 9), expect.closeTo(0.002, 9), 0])
    expect(Number(main(extra.evidence).u)).toBeCloseTo(Math.hypot(0.004, 0.003, 0.002, Number(parts['surface'])), 9)
    // of a recording, how its frames were held
    const recorded = main((await flag(step, { at: [10, 0, 0], lineage: { ...known.lineage, frames: 0.012 } })).evidence)
    expect(recorded.parts).toContainEqual({ source: 'frames', u: 0.012 })
    expect(Number(recorded.u)).toBeCloseTo(Math.hypot(Number(main(extra.evidence).u), 0.012), 9)
    const loose = (await flag(step, { at: [10, 0, 0], lineage: { ...known.lineage, frames: 'unknown' } })).evidence
    expect([main(loose).u, loose.warnings.join()]).toEqual(['unknown', expect.stringMatching(/solve it once more/)])
  })
  test('near the limit it is not decidable, and what to blame is said', async () => {
    const r = seeded(4)
    const noisy = of(() => 0.09 + 0.03 * r.gauss())
    const sure = await flag(noisy, { at: [0, 0, 10], radius: 1.5, limit: 0.3 })
    expect([sure.evidence.warnings, value(sure.evidence, 'verdict')]).toEqual([[], 'within limits'])
    const { value: mean, u } = main(sure.evidence)
    const unsure = await flag(noisy, { at: [0, 0, 10], radius: 1.5, limit: Number(mean) + 1.9 * Number(u) })
    expect(value(unsure.evidence, 'verdict')).toBe('not decidable')
    expect(unsure.evidence.warnings.join()).toMatch(/ISO 14253-1.*comes from the/)
    expect(value((await flag(noisy, { at: [0, 0, 10], radius: 1.5, limit: Number(mean) + 2.1 * Number(u) })).evidence, 'verdict')).toBe('within limits')
  })
  test.each([
    ['scanner', { scanner: 'unknown' }, /State its uncertainty/],
    ['alignment', { alignment: 'unknown' }, /See Align/],
    ['alignment', { alignment: [{ of: 'a', about: [0, 0, 0], covariance: null }] }, /See Align/],
    ['placing', { placing: 'unknown' }, /best fit in Datum/],
  ])('without the %s nothing is proven; stated, it counts', async (source, less, words) => {
    const even = of(() => 0.02)
    const lacking = { lineage: { ...known.lineage, ...less } }
    const e = (await flag(even, { at: [0, 0, 10], radius: 1.5, ...lacking })).evidence
    expect([main(e).u, value(e, 'verdict')]).toEqual(['unknown', 'not decidable'])
    expect(e.warnings.join()).toMatch(words)
    const said = (await flag(even, { at: [0, 0, 10], radius: 1.5, ...lacking, stated: { [source]: 0.02 } })).evidence
    expect(value(said, 'verdict')).toBe('within limits')
    expect(main(said).parts?.find((p) => p.source === source)).toEqual({ source, u: 0.01, stated: true })
  })
  test('by itself it knows nothing: no nominal, no ledger', async () => {
    const e = (await runOperation('flag', { field: [of(() => 0.02)], on: [item(part)] }, { at: [0, 0, 10], radius: 1.5 }, quietContext)).evidence
    expect(e.warnings).toHaveLength(4)
    expect(value(e, 'verdict')).toBe('not decidable')
  })
  test('the patch grows where values lie far apart, and says how large it is', async () => {
    const even = (m: Mesh) => field(f32(m.vertices.length / 3).fill(0.02))
    const radius = async (m: Mesh) => (await runOperation('flag', { field: [even(m)], on: [item(m)] }, { at: [0, 0, 100], ...known }, quietContext)).evidence
    expect(value(await radius(sphereMesh(100, 400)), 'patch-radius')).toBeCloseTo(2.5 * Math.sqrt((4 * Math.PI * 1e4) / (2 * 400 * 399 + 2)), 2)
    const coarse = await radius(sphereMesh(100, 120))
    expect(Number(value(coarse, 'patch-radius'))).toBeGreaterThan(4)
    expect(Number(value(coarse, 'places-averaged'))).toBeGreaterThan(6)
    const fine = (
      await flag(
        of(() => 0.02),
        { at: [0, 0, 10] },
      )
    ).evidence
    expect(value(fine, 'patch-radius')).toBe(0.8)
  })
  test('a single value tells no scatter', async () => {
    const e = (
      await flag(
        of(() => 0.02),
        { at: [0, 0, 10], radius: 0.01 },
      )
    ).evidence
    expect([main(e).u, e.warnings.join().includes('larger patch')]).toEqual(['unknown', true])
  })
  test('the alignment is that of the part as merged, wherever it was laid since', async () => {
    // a pass that may turn about x at the origin: far along y it is uncertain along z
    const turning = { of: 'a', about: [0, 0, 0], covariance: diagonal(1e-6, 0, 0, 0, 0, 0) }
    const laid = multiply(translation(500, -300, 20), fromRotationVector(0, 0, Math.PI / 2))
    const at = transformPoint(laid, 0, 10, 0)
    const lineage = { ...known.lineage, alignment: [turning] }
    // at the ball's side that looks along y nothing of it is seen; at 45 degrees the half of it
    const side = (
      await flag(
        of(() => 0.02),
        { at, radius: 1.5, lineage },
        item(part, laid),
      )
    ).evidence
    expect(Number(main(side).parts?.find((p) => p.source === 'alignment')?.u)).toBeLessThan(1e-4)
    const flatThere = (
      await runOperation(
        'flag',
        { field: [field(f32(plane(4, 4, 0.2).xyz.length / 3))], on: [{ name: 'p', data: plane(4, 4, 0.2), pose: translation(0, 30, 0) }] },
        { at: [2, 32, 0], lineage: { ...lineage, alignment: [{ ...turning, about: [0, -30, 0] }] } },
        quietContext,
      )
    ).evidence
    expect(Number(main(flatThere).parts?.find((p) => p.source === 'alignment')?.u)).toBeCloseTo(1e-3 * 32, 4)
  })
})
