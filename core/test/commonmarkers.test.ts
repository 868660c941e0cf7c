import { beforeAll, describe, expect, test } from '@jest/globals'
import { addMarkers, commonMarkers, type CommonMarker, type SetupMarkers } from '../src/align/commonmarkers.ts'
import { adjustJointly } from '../src/align/joint.ts'
import type { Unknowns } from '../src/align/unknowns.ts'
import { applyStep } from '../src/align/unknowns.ts'
import { fromRotationVector, identity, invertRigid, multiply, transformPoint, translation, type Mat4 } from '../src/base/mat4.ts'
import { seeded } from '../src/base/random.ts'
import { quietContext } from '../src/base/run.ts'
import { choleskySolve, cholesky } from '../src/base/solve.ts'
import { readAny } from '../src/formats/index.ts'
import { makeMarkers } from '../src/markers/markers.ts'
import { runOperation } from '../src/operations/registry.ts'
import { scanRange } from '../src/scanner/rangeview.ts'
import type { Mesh } from '../src/shape/mesh.ts'
import type { Placed, Points } from '../src/shape/points.ts'
import { buildBvh } from '../src/space/bvh.ts'
import { fixtureSource, oakError } from './help.ts'
import { place, plateViews } from './shapes.ts'

/** Places beside and on the plate (100 x 60 x 20 mm), irregular. */
const SPOTS = [
  [-12, 3, 4],
  [20, -14, 7],
  [71, -11, 2],
  [113, 12, 9],
  [108, 49, 15],
  [60, 74, 5],
  [9, 70, 11],
]

/** Markers as a setup measured them: seen from its pose, with noise of sigma mm; stated says whether the list knows it. */
function seenFrom(pose: Mat4, sigma: number, seed: number, stated = true, factor = 1) {
  const r = seeded(seed)
  const back = invertRigid(pose)
  const positions = SPOTS.flatMap(([x, y, z]) => transformPoint(back, x, y, z).map((v) => v + sigma * r.gauss()))
  const covariance = SPOTS.flatMap(() => [1, 0, 0, 1, 0, 1].map((v) => v * (sigma * factor) ** 2))
  return place(makeMarkers({ positions, diameters: SPOTS.map(() => 6), ...(stated ? { covariance } : {}) }) as never, 'map') as unknown as SetupMarkers['map']
}

const apart = (a: Mat4, b: Mat4, at: number[]) => {
  const [p, q] = [transformPoint(a, at[0], at[1], at[2]), transformPoint(b, at[0], at[1], at[2])]
  return Math.hypot(...p.map((v, k) => v - q[k]))
}

describe('markers as observations', () => {
  test('one step of their equations brings a setup back from far enough to matter', () => {
    const markers: CommonMarker[] = SPOTS.map((s, i) => ({
      id: String(i),
      setups: [0, 1],
      xyz: Float64Array.from([...s, ...s]),
      info: Float64Array.from([1, 0, 0, 1, 0, 1, 4, 0, 0, 4, 0, 4].map((v) => v * 1e4)),
    }))
    const u: Unknowns = { slotOf: Int32Array.of(-1, 0), count: 1, centre: Float64Array.of(50, 30, 10), lever: Float64Array.of(40) }
    const poses = [identity(), multiply(fromRotationVector(0.004, -0.003, 0.005), translation(0.3, -0.2, 0.25))]
    for (let it = 0; it < 4; it++) {
      const h = new Float64Array(36)
      const g = new Float64Array(6)
      addMarkers(markers, { u, from: 0, slotOf: (s) => s - 1, motionOf: (s) => poses[s] }, h, g, 6)
      applyStep(u, choleskySolve(cholesky(h, 6) as Float64Array, g, 6), poses)
    }
    for (const c of SPOTS) expect(apart(poses[1], poses[0], c)).toBeLessThan(1e-9)
  })
  test('equations of two free setups hold their motion against one another, and nothing else', () => {
    const markers: CommonMarker[] = SPOTS.map((s, i) => ({
      id: String(i),
      setups: [0, 1],
      xyz: Float64Array.from([...s, ...s]),
      info: Float64Array.from([1, 0, 0, 1, 0, 1, 4, 0, 0, 4, 0, 4]),
    }))
    const u: Unknowns = { slotOf: Int32Array.of(0, 1), count: 2, centre: Float64Array.of(50, 30, 10, 50, 30, 10), lever: Float64Array.of(40, 40) }
    const h = new Float64Array(144)
    addMarkers(markers, { u, from: 0, slotOf: (s) => s, motionOf: identity }, h, null, 12)
    // harmonic mean of both: 1 and 4 make 0.8
    expect(h[3 * 12 + 3]).toBeCloseTo(0.8 * SPOTS.length, 6)
    for (let i = 0; i < 12; i++) for (let k = 0; k < 6; k++) expect(h[12 * i + k] + h[12 * i + 6 + k]).toBeCloseTo(0, 6)
  })
  test('uncertainties: stated ones stand, missing and too small ones follow from what is left', () => {
    const truth = translation(0.2, 0, 0)
    const information = (stated: boolean, factor: number) => {
      let sum = 0
      for (let seed = 0; seed < 20; seed++) {
        const maps = [
          { setup: 0, map: seenFrom(identity(), 0.05, 2 * seed + 1, stated, factor) },
          { setup: 1, map: seenFrom(truth, 0.05, 2 * seed + 2, stated, factor) },
        ]
        const c = commonMarkers(maps, ['a', 'b'], 5)
        expect(c.markers).toHaveLength(SPOTS.length)
        sum += 1 / Math.sqrt(c.markers[0].info[0]) / 20
      }
      return sum
    }
    // 0.05 mm, and what handling leaves
    expect(information(true, 1)).toBeGreaterThan(0.05)
    expect(information(true, 1)).toBeLessThan(0.07)
    expect(Math.abs(information(false, 1) / 0.05 - 1)).toBeLessThan(0.35)
    expect(Math.abs(information(true, 0.1) / 0.05 - 1)).toBeLessThan(0.35)
  })
  test('a marker that moved is named and left out; maps that do not agree share nothing; setups far apart are refused', () => {
    const good = { setup: 0, map: seenFrom(identity(), 0.01, 1) }
    const other = seenFrom(identity(), 0.01, 2)
    const positions = Float32Array.from(other.data.positions)
    positions[4] += 3
    const one = commonMarkers([good, { setup: 1, map: { ...other, data: { ...other.data, positions } } }], ['first', 'second'], 5)
    expect(one.markers).toHaveLength(SPOTS.length - 1)
    expect(one.warnings.join()).toMatch(/^Marker 2 lies 3\.0\d mm beside its place in first/)
    const r = seeded(5)
    const strange = { ...other, data: { ...other.data, positions: positions.map(() => 100 * r.next()) } }
    const none = commonMarkers([good, { setup: 1, map: strange }], ['first', 'second'], 5)
    expect(none.markers).toHaveLength(0)
    expect(none.warnings.join()).toContain('first and second: their markers do not count.')
    expect(() => commonMarkers([good, { setup: 1, map: { ...other, pose: translation(30, 0, 0) } }], ['first', 'second'], 5)).toThrow(/lie 30 mm apart/)
  })
})

describe('a plate seen from above and from below, its walls out of sight', () => {
  // flat faces alone do not hold the passes of a setup: tracking does. What is known of setup 2 at the start is a few tenths off
  const start = multiply(fromRotationVector(0.003, -0.002, 0.001), translation(0.1, -0.15, 0.3))
  let passes: (Placed<Points> & { setup: string })[]
  const maps = (sigma: number) => [
    { ...seenFrom(identity(), sigma, 7), name: 'Markers above', setup: 'above' },
    { ...seenFrom(identity(), sigma, 8), name: 'Markers below', setup: 'below', pose: start },
  ]
  beforeAll(async () => {
    const cad = (await readAny(fixtureSource('cad/plate_holes_dev.stl'))).data as Mesh
    const bvh = buildBvh(cad)
    passes = await Promise.all(
      [0, 1, 2, 3].map(async (i) => {
        const below = i > 1
        const scan = await scanRange(cad, bvh, {
          eye: [50 + (i % 2 ? 60 : -70), 30 + (i % 2 ? 50 : -20), below ? -260 : 280],
          target: [50, 30, 10],
          pitch: 0.5,
          halfWidth: 62,
          halfHeight: 50,
          noise: 0.02,
          baseline: 40,
          // nothing steep: the two sides share no surface
          maxIncidence: 50,
          strays: 0,
          seed: 60 + i,
        })
        return { ...place(scan.points, `view ${i}`), pose: below ? start : identity(), setup: below ? 'below' : 'above' }
      }),
    )
  })
  const corners = [0, 100].flatMap((x) => [0, 60].flatMap((y) => [0, 20].map((z) => [x, y, z])))
  test('without markers they hang on nothing; with them they lie where they belong, within what is stated', async () => {
    expect((await oakError(runOperation('adjust', { passes }, {}, quietContext))).code).toBe('no-overlap')
    const r = await runOperation('adjust', { passes, maps: maps(0.01) }, { tracking: 0.005 }, quietContext)
    expect(r.evidence.warnings).toEqual([])
    const value = (id: string, of?: string) => r.evidence.quantities.find((x) => x.id === id && x.of === of)?.value as number
    expect(value('markers-in-common')).toBe(SPOTS.length)
    // noise of 0.01 in both maps, from their mean: 0.01 sqrt(3/2)
    expect(value('markers-rms')).toBeGreaterThan(0.005)
    expect(value('markers-rms')).toBeLessThan(0.02)
    for (const i of [2, 3]) {
      const stated = value('pose', `view ${i}`)
      const off = Math.max(...corners.map((c) => apart(r.outputs['passes'][i].pose, identity(), c)))
      expect([i, stated > 0.003 && stated < 0.03, off < 3 * stated]).toEqual([i, true, true])
    }
  })
  test('maps move with their setups: adjusting once more changes next to nothing', async () => {
    const once = await runOperation('adjust', { passes, maps: maps(0.01) }, { tracking: 0.005 }, quietContext)
    const again = await runOperation('adjust', { passes: once.outputs['passes'], maps: once.outputs['maps'] }, { tracking: 0.005 }, quietContext)
    // the second setup went by some tenths of a millimetre, and its map with it
    const went = (k: number, port: string) => Math.max(...corners.map((c) => apart(once.outputs[port][k].pose, start, c)))
    expect(went(1, 'maps')).toBeGreaterThan(0.2)
    expect(Math.abs(went(1, 'maps') - went(2, 'passes'))).toBeLessThan(0.05)
    const stated = once.evidence.quantities[0].value as number
    for (const port of ['passes', 'maps'])
      again.outputs[port].forEach((p, k) => {
        const by = Math.max(...corners.map((c) => apart(p.pose, once.outputs[port][k].pose, c)))
        expect([port, k, by < 0.3 * stated]).toEqual([port, k, true])
      })
  })
  test('aligned by pairs, the map of the loose setup goes along', async () => {
    const at = [
      [0, 0, 0],
      [50, 0, 0],
      [0, 40, 0],
    ]
    const pairs = at.map(([x, y, z]) => ({ loose: [x, y, z], anchor: [x + 3, y, z + 1] }))
    const [, map] = maps(0.01)
    const r = await runOperation('align-pairs', { loose: passes.slice(2), maps: [map] as never }, { pairs }, quietContext)
    for (const c of corners) expect(apart(r.outputs['maps'][0].pose, r.outputs['loose'][0].pose, c)).toBeLessThan(1e-9)
  })
  test('markers ten times worse give a stated error about as much larger', async () => {
    const error = async (sigma: number) =>
      (await runOperation('adjust', { passes, maps: maps(sigma) }, { tracking: 0.005 }, quietContext)).evidence.quantities[0].value as number
    const [fine, coarse] = [await error(0.01), await error(0.1)]
    expect(coarse / fine).toBeGreaterThan(3)
    expect(coarse / fine).toBeLessThan(14)
  })
  test('setups that lie far from where their markers say are refused, with what to do', async () => {
    const far = [maps(0.01)[0], { ...maps(0.01)[1], pose: translation(60, 0, 0) }]
    const e = await oakError(runOperation('adjust', { passes, maps: far }, {}, quietContext))
    expect([e.code, e.remedy]).toEqual(['not-together', 'Bring the setups together by their markers first.'])
  })
  test('a map of a setup without passes, and one alone, change nothing', async () => {
    const [map] = maps(0.01)
    const above = passes.slice(0, 2)
    const alone = await adjustJointly(above, { setups: [0, 0] }, quietContext)
    const markers = { maps: [0, 5].map((setup) => ({ setup, map })), names: [] }
    const with1 = await adjustJointly(above, { setups: [0, 0], markers }, quietContext)
    expect(with1.poses).toEqual(alone.poses)
  })
})

test('markers that contradict the surface are told: they stayed on the table, or were stuck anew', async () => {
  const views = (await plateViews(4)).map((v, i) => ({ ...v, setup: i < 2 ? 'first' : 'second' }))
  const maps = (off: number) => [
    { ...seenFrom(identity(), 0.01, 7), name: 'Markers of the first', setup: 'first' },
    { ...seenFrom(translation(-off, 0, 0), 0.01, 8), name: 'Markers of the second', setup: 'second' },
  ]
  const run = (off: number) => runOperation('adjust', { passes: views, maps: maps(off) }, { tracking: 0.02 }, quietContext)
  expect((await run(0)).evidence.warnings).toEqual([])
  const { warnings } = (await run(0.4)).evidence
  expect(warnings).toEqual([expect.stringMatching(/^Surface and markers contradict each other: they want the setups 0\.[1-4]\d* mm apart/)])
}, 60_000)
