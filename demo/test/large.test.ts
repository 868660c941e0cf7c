import { beforeAll, describe, expect, test } from '@jest/globals'
import { identity, transformPoint } from '@oak-gauge/core/base/mat4.ts'
import { quietContext } from '@oak-gauge/core/base/run.ts'
import { wayRound } from '@oak-gauge/core/capture/wayround.ts'
import { PERCHES, type Markers } from '@oak-gauge/core/markers/markers.ts'
import { meshFacts } from '@oak-gauge/core/measure/facts.ts'
import type { Item } from '@oak-gauge/core/operations/operation.ts'
import { planMarkersOperation } from '@oak-gauge/core/operations/plan-markers.ts'
import { rehearseRecordingOperation as rehearse } from '@oak-gauge/core/operations/rehearse-recording.ts'
import type { Mesh } from '@oak-gauge/core/shape/mesh.ts'
import { boundingBox } from '@oak-gauge/core/shape/points.ts'
import { designedStereo } from '@oak-gauge/core/scanner/spec.ts'
import { tessellate } from '../src/cad.ts'
import { hatch, winchPost } from '../src/parts/large.ts'

let post: Mesh
let sheet: Mesh
beforeAll(async () => {
  post = tessellate(await winchPost(), 0.1, 12)
  sheet = tessellate(await hatch(), 0.1, 12)
}, 120_000)

const optics = designedStereo({ width: 640, height: 480, focal: 660, baseline: 140, crossing: 400 })
const scanner = {
  optics,
  range: { near: 250, ideal: 400, far: 550 },
  pattern: 'area' as const,
  stride: 5,
  located: 0.02,
  rate: 15,
  distance: { error: 0.02, U: 0.01 },
}
const item = (data: Mesh): Item<Mesh> => ({ name: 'part', data, pose: identity() })
const value = (e: { quantities: { id: string; value: number | string }[] }, id: string) => Number(e.quantities.find((q) => q.id === id)?.value)

describe('a tall post and a large sheet', () => {
  test('are closed bodies of one piece; the sheet is of 2 mm', () => {
    for (const [m, size] of [
      [post, [150, 120, 366]],
      [sheet, [520, 340, 20]],
    ] as const) {
      const { topology, volume, size: s } = meshFacts(m)
      expect([topology.openEdges, topology.flippedEdges, topology.components, volume > 0]).toEqual([0, 0, 1, true])
      expect(s.map(Math.round)).toEqual(size)
    }
    const { area, volume } = meshFacts(sheet)
    expect((2 * volume) / area).toBeCloseTo(2, 0)
  })
  test('the hand goes up and down the post, from above its top only, and never comes too near', () => {
    const b = boundingBox(post.vertices)
    let [lowest, highest, nearest] = [Infinity, -Infinity, Infinity]
    for (let t = 0; t < 1; t += 0.002) {
      const m = wayRound(b, 400, t)
      const eye = [m[3], m[7], m[11]]
      const aim = transformPoint(m, 0, 0, 400)
      lowest = Math.min(lowest, aim[2])
      highest = Math.max(highest, aim[2])
      for (let i = 0; i < post.vertices.length; i += 3)
        nearest = Math.min(nearest, Math.hypot(eye[0] - post.vertices[i], eye[1] - post.vertices[i + 1], eye[2] - post.vertices[i + 2]))
      expect(eye[2]).toBeGreaterThan(60)
    }
    expect([lowest < 100, highest > 280, nearest > 250, nearest]).toEqual([true, true, true, nearest])
  })
  test('the post wants towers; held by markers foot, column and both eyes are recorded', async () => {
    const plan = (await planMarkersOperation.run({ shape: [item(post)] }, planMarkersOperation.params.parse({ where: 'around', towers: true }), quietContext))
      .outputs['plan']
    const { data } = plan[0] as Item<Markers>
    expect(Array.from(data.perch, (p) => PERCHES[p]).filter((p) => p === 'tower').length).toBeGreaterThan(5)
    const params = rehearse.params.parse({ by: 'markers', frames: 150, seconds: 60, spacing: 3, scanner })
    const { evidence: e } = await rehearse.run({ shape: [item(post)], plan }, params, quietContext)
    expect(value(e, 'covered')).toBeGreaterThan(55)
    expect(value(e, 'frame-sigma-median')).toBeLessThan(0.05)
  }, 240_000)
  test('the sheet is free by shape, and markers are asked for; by them it is recorded', async () => {
    const params = (by: string) => rehearse.params.parse({ by, frames: 36, seconds: 40, spacing: 3, scanner })
    const free = await rehearse.run({ shape: [item(sheet)] }, params('shape'), quietContext)
    expect([value(free.evidence, 'covered'), /markers/.test(free.evidence.warnings[0])]).toEqual([0, true])
    const { outputs } = await planMarkersOperation.run({ shape: [item(sheet)] }, planMarkersOperation.params.parse({ where: 'around' }), quietContext)
    const held = await rehearse.run({ shape: [item(sheet)], plan: outputs['plan'] }, params('markers'), quietContext)
    expect(value(held.evidence, 'covered')).toBeGreaterThan(30)
    expect(value(held.evidence, 'deviation-rms')).toBeLessThan(0.05)
  }, 240_000)
})
