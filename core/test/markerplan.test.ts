import { beforeAll, describe, expect, it } from '@jest/globals'
import { quietContext } from '../src/base/run.ts'
import { makeMarkers, PERCHES } from '../src/markers/markers.ts'
import { judgePlan } from '../src/markers/plan/judge.ts'
import { planMarkers, type Plan, type PlanOptions } from '../src/markers/plan/plan.ts'
import { evenDirections, planScene, planStands, SEEN, sees, viewOf } from '../src/markers/plan/scene.ts'
import { aroundSites, bendWithin, clearance, footprintGap, partSites } from '../src/markers/plan/sites.ts'
import { plainMesh, plainShape, tiled, upright, uprightPose, UPS } from '../src/markers/plan/shape.ts'
import { runOperation } from '../src/operations/registry.ts'
import { makePoints } from '../src/shape/points.ts'
import { meshFacts } from '../src/measure/facts.ts'
import { boxSolid, cylinderSolid } from '../src/shape/solids.ts'
import { oakError, value } from './help.ts'
import { SPEC } from './marking.ts'
import type { Markers } from '../src/markers/markers.ts'

const view = viewOf(SPEC)
const BASE: PlanOptions = {
  where: 'both',
  sizes: 'mixed',
  least: 4,
  wanted: 6,
  spacing: 50,
  clearEdge: 25,
  keepClear: [],
  keepFaces: [],
  blocks: true,
  towers: true,
  from: 'above',
}
const distances = (m: Markers) => {
  const out: number[] = []
  for (let i = 0; i < m.ids.length; i++)
    for (let j = 0; j < i; j++) out.push(Math.hypot(...[0, 1, 2].map((k) => m.positions[3 * i + k] - m.positions[3 * j + k])))
  return out
}

describe('plain shapes', () => {
  it('are closed, of the right volume and area', () => {
    const box = meshFacts(boxSolid(40, 30, 20))
    expect(box.volume).toBeCloseTo(24_000, 1)
    expect(box.area).toBeCloseTo(2 * (1200 + 800 + 600), 1)
    const n = 96
    const cylinder = meshFacts(cylinderSolid(50, 80, n))
    // a prism with n sides: closed formula
    expect(cylinder.volume).toBeCloseTo(0.5 * n * 25 * 25 * Math.sin((2 * Math.PI) / n) * 80, 0)
    expect(plainMesh(plainShape.parse({ kind: 'plate', x: 100, y: 50, z: 2 })).triangles.length).toBe(36)
    expect(plainShape.safeParse({ kind: 'box', x: 0, y: 10, z: 10 }).success).toBe(false)
  })

  it('stand with any of the six directions up', () => {
    for (const up of UPS) {
      const m = uprightPose(up)
      const axis = [0, 1, 2].map((k) => ('xyz'[k] === up[1] ? 1 : 0) * (up[0] === '-' ? -1 : 1))
      expect([0, 1, 2].map((r) => m[4 * r] * axis[0] + m[4 * r + 1] * axis[1] + m[4 * r + 2] * axis[2] || 0)).toEqual([0, 0, 1])
      const det = m[0] * (m[5] * m[10] - m[6] * m[9]) - m[1] * (m[4] * m[10] - m[6] * m[8]) + m[2] * (m[4] * m[9] - m[5] * m[8])
      expect(det).toBe(1)
    }
    const lying = upright(boxSolid(10, 20, 30), uprightPose('+z'), '+x')
    expect(planScene(lying).box[5] - planScene(lying).box[2]).toBeCloseTo(10, 5)
  })
})

describe('room for a marker', () => {
  const scene = planScene(boxSolid(120, 80, 40))

  it('ends at an edge', () => {
    // 30 mm from the nearest side of the top
    expect(clearance(scene, [0, 0, 40], [0, 0, 1], 25)).toBe(25)
    expect(clearance(scene, [50, 0, 40], [0, 0, 1], 25)).toBeLessThanOrEqual(10)
    expect(clearance(scene, [50, 0, 40], [0, 0, 1], 25)).toBeGreaterThanOrEqual(7.5)
    expect(bendWithin(scene, [0, 0, 40], [0, 0, 1], 4)).toBeLessThan(1e-4)
  })

  it('is bent on a cylinder as its sagitta', () => {
    const round = planScene(cylinderSolid(80, 100, 720))
    // r^2 / 2R
    expect(bendWithin(round, [40, 0, 50], [1, 0, 0], 4)).toBeCloseTo(16 / 80, 1)
    expect(clearance(round, [40, 0, 50], [1, 0, 0], 25)).toBeGreaterThanOrEqual(15)
  })

  it('is kept from faces and places that stay free', () => {
    const all = partSites(scene, { sizes: 'small', clearEdge: 25, keepClear: [], keepFaces: new Set() })
    const top = partSites(scene, { sizes: 'small', clearEdge: 25, keepClear: [], keepFaces: new Set([1]) })
    expect(all.some((s) => s.normal[2] > 0.9)).toBe(true)
    expect(top.some((s) => s.normal[2] > 0.9)).toBe(false)
    const around = partSites(scene, { sizes: 'small', clearEdge: 25, keepClear: [{ at: [0, 0, 40], radius: 30 }], keepFaces: new Set() })
    expect(around.every((s) => Math.hypot(s.place[0], s.place[1], s.place[2] - 40) >= 30)).toBe(true)
  })

  it('around the part leaves it free, with blocks and, for tall parts, towers', () => {
    const sites = aroundSites(scene, { sizes: 'large', blocks: true, towers: true })
    for (const s of sites) expect(footprintGap(scene, s.place[0], s.place[1])).toBeGreaterThan(8)
    expect(new Set(sites.map((s) => s.perch))).toEqual(new Set(['table', 'block-30', 'block-45']))
    const tall = aroundSites(planScene(boxSolid(60, 60, 200)), { sizes: 'large', blocks: false, towers: true })
    expect(new Set(tall.map((s) => s.perch))).toEqual(new Set(['table', 'tower']))
  })
})

describe('what a scanner sees of a marker', () => {
  const scene = planScene(boxSolid(100, 100, 50))
  const above = {
    direction: 0,
    eye: [0, 0, 450] as [number, number, number],
    aim: [0, 0, 50] as [number, number, number],
    side: [1, 0, 0] as [number, number, number],
  }

  it('depends on place, angle, size, distance, and what stands between', () => {
    expect(sees(scene, view, above, [0, 0, 50], [0, 0, 1], 6)).toBe(SEEN)
    expect(sees(scene, view, above, [0, 0, 50], [1, 0, 0.2], 6)).toBe(1)
    expect(sees(scene, view, above, [300, 0, 0], [0, 0, 1], 6)).toBe(2)
    expect(sees(scene, view, above, [0, 0, 0], [0, 0, 1], 6)).toBe(3)
    expect(sees(scene, view, above, [0, 0, 50], [0, 0, 1], 1)).toBe(4)
    expect(sees(scene, view, { ...above, eye: [0, 0, 250] }, [0, 0, 50], [0, 0, 1], 6)).toBe(5)
  })

  it('is asked from directions spread evenly', () => {
    const d = evenDirections(180)
    const mean = [0, 1, 2].map((k) => Array.from({ length: 180 }, (_, i) => d[3 * i + k]).reduce((a, b) => a + b) / 180)
    expect(Math.hypot(...mean)).toBeLessThan(0.01)
    const { stands, directions } = planStands(scene, view, 'above')
    expect(directions.length / 3).toBeGreaterThan(40)
    for (let i = 2; i < directions.length; i += 3) expect(directions[i]).toBeGreaterThan(0.3)
    for (const s of stands) expect(Math.hypot(...s.eye.map((v, k) => v - s.aim[k]))).toBeCloseTo(400, 3)
  })
})

describe('a plan for a part of 300 mm', () => {
  let plan: Plan
  const scene = planScene(boxSolid(300, 180, 60))
  beforeAll(() => {
    plan = planMarkers(scene, view, BASE, quietContext)
  })

  it('is seen from every direction by at least four', () => {
    expect(plan.verdict.enough).toBe(1)
    expect(plan.verdict.comfortable).toBeGreaterThan(0.85)
    expect(plan.verdict.seen.every((s) => s >= 4)).toBe(true)
    expect(plan.verdict.islands).toBe(1)
    expect(plan.verdict.lookAlikes).toEqual([])
  })

  it('keeps the rules of thumb (common practice, no source): spacing, edges, both sizes', () => {
    const gaps = distances(plan.markers)
    expect(Math.min(...gaps)).toBeGreaterThan(18)
    expect(plan.verdict.median).toBeGreaterThan(35)
    expect(plan.verdict.median).toBeLessThan(90)
    expect(new Set(plan.markers.diameters)).toEqual(new Set([3, 6]))
    const m = plan.markers
    const near = m.ids.filter((_, i) => {
      if (PERCHES[m.perch[i]] !== 'part' || m.normals[3 * i + 2] < 0.9) return false
      const [x, y] = [m.positions[3 * i], m.positions[3 * i + 1]]
      return Math.min(150 - Math.abs(x), 90 - Math.abs(y)) < 20
    })
    // those that do come near an edge are owned up to
    expect(near.length === 0 || plan.warnings.some((w) => w.includes('to an edge'))).toBe(true)
  })

  it('says that the part may not be moved, and counts what is left in the box', () => {
    expect(plan.warnings.some((w) => w.includes('may not be moved'))).toBe(true)
    const few = planMarkers(scene, view, { ...BASE, stock: { '3': 2, '6': 500 } }, quietContext)
    expect(few.warnings.some((w) => /markers of 3 mm are needed, 2 are left/.test(w))).toBe(true)
  })

  it('is the same again, and can be cancelled', async () => {
    expect(planMarkers(scene, view, BASE, quietContext).markers.positions).toEqual(plan.markers.positions)
    const e = await oakError(Promise.resolve().then(() => planMarkers(scene, view, BASE, { ...quietContext, signal: { aborted: true } })))
    expect(e.code).toBe('cancelled')
  })

  it('gets worse when a marker goes, and says from where', () => {
    const { stands, directions } = planStands(scene, view, 'above')
    const m = plan.markers
    const half = m.ids.map((_, i) => i).filter((i) => m.positions[3 * i] > 0)
    const pick = (a: ArrayLike<number>, w: number) => half.flatMap((i) => Array.from({ length: w }, (_, k) => a[w * i + k]))
    const v = judgePlan(
      scene,
      view,
      stands,
      directions,
      { positions: pick(m.positions, 3), normals: pick(m.normals, 3), diameters: pick(m.diameters, 1), perch: pick(m.perch, 1) },
      { least: 4, wanted: 6, turns: false },
    )
    expect(v.enough).toBeLessThan(0.9)
    const poor = v.seen.findIndex((s) => s < 4)
    expect(v.why[poor]).not.toBe('')
    expect(v.warnings.some((w) => w.includes('fewer than 4'))).toBe(true)
  })

  it('builds on markers that are stuck already', () => {
    const two = { ids: ['A', 'B'], positions: [-60, 0, 60, 60, 10, 60], normals: [0, 0, 1, 0, 0, 1], diameters: [6, 6], perch: [0, 0] }
    const more = planMarkers(scene, view, { ...BASE, fixed: two }, quietContext)
    expect(more.markers.ids.slice(0, 2)).toEqual(['A', 'B'])
    expect(Array.from(more.markers.positions.subarray(0, 3))).toEqual([-60, 0, 60])
    expect(more.verdict.enough).toBe(1)
    const only = planMarkers(scene, view, { ...BASE, fixed: two, propose: false }, quietContext)
    expect(only.markers.ids).toEqual(['A', 'B'])
    expect(only.verdict.enough).toBeLessThan(0.5)
  })
})

describe('plans that warn', () => {
  it('of a thin part whose two sides share no markers', () => {
    const plate = planScene(boxSolid(250, 180, 3))
    const p = planMarkers(plate, view, { ...BASE, where: 'part', from: 'all' }, quietContext)
    expect(p.verdict.islands).toBeGreaterThan(1)
    expect(p.warnings.some((w) => w.includes('two sides share no markers'))).toBe(true)
    expect(p.warnings.some((w) => w.includes('may not be'))).toBe(false)
  })

  it('of edges on a small part', () => {
    const small = planScene(boxSolid(70, 50, 30))
    const p = planMarkers(small, view, { ...BASE, where: 'part', from: 'all', sizes: 'small' }, quietContext)
    expect(p.markers.ids.length).toBeGreaterThan(5)
    expect(p.warnings.some((w) => w.includes('nearer than 25 mm to an edge'))).toBe(true)
  })

  it('of groups that look alike', () => {
    const positions = [0, 0, 0, 60, 0, 0, 20, 50, 0, 75, 48, 0]
    const twins = [...positions, ...positions.map((v, i) => v + (i % 3 === 0 ? 300 : 0))]
    const scene = planScene(boxSolid(100, 100, 10))
    const { stands, directions } = planStands(scene, view, 'above')
    const m = makeMarkers({
      positions: twins,
      diameters: twins.filter((_, i) => i % 3 === 0).map(() => 6),
      normals: twins.map((_, i) => (i % 3 === 2 ? 1 : 0)),
    })
    const v = judgePlan(scene, view, stands, directions, m, { least: 4, wanted: 6, turns: false })
    // and the parallelograms that two shifted groups make, which look like themselves turned round
    expect(v.lookAlikes.length).toBeGreaterThanOrEqual(1)
    expect([...v.lookAlikes[0].one].sort()).toEqual([0, 1, 2, 3])
    expect([...v.lookAlikes[0].other].sort()).toEqual([4, 5, 6, 7])
  })
})

describe('planning as an operation', () => {
  it('plans on a shape by its dimensions, and gives the shape', async () => {
    const r = await runOperation('plan-markers', {}, { shape: { kind: 'cylinder', diameter: 140, height: 120 }, where: 'around' }, quietContext)
    expect(value(r.evidence, 'directions-with-enough')).toBe(100)
    expect(r.outputs['shape']).toHaveLength(1)
    expect(value(r.evidence, 'markers-planned')).toBe((r.outputs['plan'][0].data as Markers).ids.length)
    expect(value(r.evidence, 'on-the-part')).toBeUndefined()
  })

  it('plans on a part that lies otherwise in the job, in the coordinates of the job', async () => {
    const box = boxSolid(200, 120, 50)
    const item = { name: 'box', data: box, pose: Float64Array.of(1, 0, 0, 500, 0, 1, 0, 0, 0, 0, 1, 0, 0, 0, 0, 1) }
    const r = await runOperation('plan-markers', { shape: [item] }, { up: '-z' }, quietContext)
    const m = r.outputs['plan'][0].data as Markers
    // upside down: the table is at z = 50, and nothing faces further up than it
    const table = m.ids.map((_, i) => i).filter((i) => PERCHES[m.perch[i]] === 'table')
    expect(table.length).toBeGreaterThan(0)
    for (const i of table) {
      expect(m.positions[3 * i + 2]).toBeCloseTo(50, 3)
      expect(m.normals[3 * i + 2]).toBeCloseTo(-1, 6)
      expect(Math.abs(m.positions[3 * i] - 500)).toBeLessThan(220)
    }
    expect(r.outputs['shape']).toBeUndefined()
  })

  it('plans on a quick rough pass', async () => {
    const xyz: number[] = []
    const normals: number[] = []
    for (let x = -100; x <= 100; x += 2.5)
      for (let y = -80; y <= 80; y += 2.5) {
        xyz.push(x, y, 30)
        normals.push(0, 0, 1)
      }
    const pass = makePoints({ xyz: Float32Array.from(xyz), normals: Float32Array.from(normals) })
    const r = await runOperation(
      'plan-markers',
      { shape: [{ name: 'rough', data: pass, pose: uprightPose('+z') }] },
      { where: 'part', from: 'above' },
      quietContext,
    )
    expect(value(r.evidence, 'on-the-part')).toBeGreaterThan(4)
    const bare = makePoints({ xyz: Float32Array.from(xyz) })
    expect((await oakError(Promise.resolve().then(() => tiled(bare)))).code).toBe('no-normals')
  })

  it('refuses to plan on nothing', async () => {
    expect((await oakError(runOperation('plan-markers', {}, {}, quietContext))).code).toBe('no-shape')
    expect((await oakError(runOperation('plan-markers', {}, { wanted: 1 }, quietContext))).code).toBe('bad-setting')
  })
})
