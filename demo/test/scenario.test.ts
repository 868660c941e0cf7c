import { beforeAll, describe, expect, test } from '@jest/globals'
import { transformArray, transformPoint } from '@oak-gauge/core/base/mat4.ts'
import { f32 } from '@oak-gauge/core/base/arrays.ts'
import { quietContext } from '@oak-gauge/core/base/run.ts'
import { seeded } from '@oak-gauge/core/base/random.ts'
import { median, robustSigma } from '@oak-gauge/core/base/stats.ts'
import { cadHere } from '@oak-gauge/cad/kernel.ts'
import { readAny } from '@oak-gauge/core/formats/index.ts'
import { bytesSource } from '@oak-gauge/core/formats/source.ts'
import { deviationTo } from '@oak-gauge/core/inspect/deviation.ts'
import { meshFacts } from '@oak-gauge/core/measure/facts.ts'
import { keepTriangles, type Mesh } from '@oak-gauge/core/shape/mesh.ts'
import { tessellate } from '../src/cad.ts'
import { BOLTS, BORE_HEIGHT, bracket, NOMINAL_BRACKET } from '../src/parts/bracket.ts'
import { DEFECTS } from '../src/parts/defects.ts'
import { gearCover, pawl, sillHandle } from '../src/parts/others.ts'
import { inPassCoordinates, orbit, smallPose } from '../src/passes.ts'
import { bracketJob, handleJob, TRUE_SECOND_SETUP, type DemoJob } from '../src/scenario.ts'

/** Radius of the walls of a mesh about an axis along y through (x, z), within a margin. */
function boreRadius(m: Mesh, x: number, z: number, about: number): number {
  const radii: number[] = []
  for (let i = 0; i < m.vertices.length; i += 3) {
    const r = Math.hypot(m.vertices[i] - x, m.vertices[i + 2] - z)
    if (Math.abs(r - about) < 0.5) radii.push(r)
  }
  return median(radii)
}

describe('the parts', () => {
  test('are closed bodies of one piece', async () => {
    const parts: [string, Mesh][] = [
      ['bracket', tessellate(await bracket(), 0.01, 8)],
      ['pawl', tessellate(await pawl(), 0.01, 8)],
      ['cover', tessellate(await gearCover(), 0.01, 8)],
      ['handle', sillHandle()],
    ]
    for (const [name, m] of parts) {
      const { topology, volume } = meshFacts(m)
      expect([name, topology.openEdges, topology.flippedEdges, topology.components, volume > 0]).toEqual([name, 0, 0, 1, true])
    }
  }, 60_000)
  test('the bracket is 160 x 110 x 60 mm with the bore and the bolt holes of its drawing', async () => {
    const m = tessellate(await bracket(), 0.005, 4)
    const { size } = meshFacts(m)
    expect(size.map((v) => Math.round(v))).toEqual([160, 110, 60])
    expect(2 * boreRadius(m, 0, BORE_HEIGHT, NOMINAL_BRACKET.bore / 2)).toBeCloseTo(NOMINAL_BRACKET.bore, 2)
    expect(BOLTS).toHaveLength(4)
    const large = tessellate(await bracket({ ...NOMINAL_BRACKET, bore: DEFECTS.oversizeBore.diameter }), 0.005, 4)
    expect(2 * boreRadius(large, 0, BORE_HEIGHT, DEFECTS.oversizeBore.diameter / 2)).toBeCloseTo(DEFECTS.oversizeBore.diameter, 2)
  }, 60_000)
  test('the cover looks the same after a sixth of a turn, the bracket after no turn', async () => {
    const turned = (m: Mesh, angle: number) => {
      const [c, s] = [Math.cos(angle), Math.sin(angle)]
      return transformArray([c, -s, 0, 0, s, c, 0, 0, 0, 0, 1, 0, 0, 0, 0, 1], m.vertices, f32(m.vertices.length))
    }
    const off = async (m: Mesh, angle: number) => Math.max(...(await deviationTo(m, turned(m, angle), Infinity, quietContext)).values.map(Math.abs))
    expect(await off(tessellate(await gearCover(), 0.01, 6), Math.PI / 3)).toBeLessThan(0.1)
    expect(await off(tessellate(await bracket(), 0.02, 8), Math.PI)).toBeGreaterThan(5)
  }, 60_000)
})

describe('the bracket as it was recorded', () => {
  let job: DemoJob
  let nominal: Mesh
  beforeAll(async () => {
    job = await bracketJob(quietContext)
    nominal = (await readAny(bytesSource('nominal.step', job.nominal?.step ?? new Uint8Array(0)), { ...quietContext, cad: cadHere })).data as Mesh
  }, 300_000)
  test('two setups, eight passes, the scanner’s place known, a nominal with faces', () => {
    expect(job.setups.map((s) => s.passes.length)).toEqual([5, 3])
    for (const p of job.setups.flatMap((s) => s.passes)) {
      expect(p.points.viewpoint).toHaveLength(3)
      expect(p.points.xyz.length / 3).toBeLessThanOrEqual(220_000)
      expect(p.points.xyz.length / 3).toBeGreaterThan(80_000)
    }
    expect(new Set(nominal.faces).size).toBeGreaterThan(30)
    expect(meshFacts(nominal).topology.closed).toBe(true)
  })
  test('its surface, away from the defects, is the nominal’s within noise and drift, in the second setup by its true pose', async () => {
    const sound = keepTriangles(nominal, new Uint8Array(nominal.triangles.length / 3).fill(1))
    const spread = async (xyz: Float32Array) => {
      const few = f32(3 * 20_000)
      const n = xyz.length / 3
      for (let i = 0; i < 20_000; i++) few.set(xyz.subarray(3 * Math.floor((i * n) / 20_000), 3 * Math.floor((i * n) / 20_000) + 3), 3 * i)
      const d = await deviationTo(sound, few, 2, quietContext)
      // the left end of the foot plate: away from the bend, the wear and the bore
      const near: number[] = []
      for (let i = 0; i < 20_000; i++) if (few[3 * i] < -30 && few[3 * i + 2] > 2 && Math.abs(d.values[i]) < 0.5) near.push(d.values[i])
      return { mean: median(near), sigma: robustSigma(near.map((v) => v - median(near))), count: near.length }
    }
    const first = await spread(job.setups[0].passes[0].points.xyz)
    expect(first.count).toBeGreaterThan(500)
    expect(Math.abs(first.mean)).toBeLessThan(0.01)
    // 0.03 mm along rays that come in slanting
    expect(first.sigma).toBeGreaterThan(0.015)
    expect(first.sigma).toBeLessThan(0.04)
    const other = job.setups[1].passes[0].points.xyz
    const second = await spread(transformArray(TRUE_SECOND_SETUP, other, f32(other.length)))
    expect(second.count).toBeGreaterThan(200)
    expect(Math.abs(second.mean)).toBeLessThan(0.02)
  }, 60_000)
  test('it stands on a table, and something that is no part of it lies there', () => {
    let [n, table, junk, above] = [0, 0, 0, 0]
    for (const { points } of job.setups[0].passes)
      for (let i = 0; i < points.xyz.length; i += 3) {
        const { xyz } = points
        n++
        if (Math.abs(xyz[i + 2]) < 0.15) table++
        else if (xyz[i] > 86 && xyz[i + 1] < -68 && xyz[i + 2] > 2) junk++
        else if (xyz[i + 2] > 70) above++
      }
    expect(table / n).toBeGreaterThan(0.15)
    expect(junk).toBeGreaterThan(50)
    // strays hang anywhere
    expect(above / n).toBeLessThan(0.01)
  })
})

describe('recording', () => {
  test('is the same every time', async () => {
    const [a, b] = [await handleJob(quietContext), await handleJob(quietContext)]
    expect(a.setups[0].passes.map((p) => p.points.xyz.length)).toEqual(b.setups[0].passes.map((p) => p.points.xyz.length))
    expect(Buffer.from(a.setups[0].passes[1].points.xyz.buffer).equals(Buffer.from(b.setups[0].passes[1].points.xyz.buffer))).toBe(true)
  }, 300_000)
  test('a camera by azimuth and elevation; small poses keep the target near', () => {
    expect(orbit(0, 0, 10, [1, 2, 3]).map((v) => Math.round(1e9 * v) / 1e9)).toEqual([11, 2, 3])
    expect(orbit(90, 30, 10, [0, 0, 0])[2]).toBeCloseTo(5, 9)
    const pose = smallPose(seeded(3), 0.5, 1, [10, 20, 30])
    const p = transformPoint(pose, 10, 20, 30)
    expect(Math.hypot(p[0] - 10, p[1] - 20, p[2] - 30)).toBeCloseTo(1, 9)
  })
  test('what a pass holds lies in its own coordinates, and its pose brings it back', () => {
    const pose = smallPose(seeded(8), 5, 20, [0, 0, 0])
    const xyz = Float32Array.of(1, 2, 3, 40, 50, 60)
    const r = inPassCoordinates({ points: { kind: 'points', xyz, viewpoint: [0, 0, 400] }, truth: xyz }, pose)
    const back = transformArray(r.truePose, r.points.xyz, f32(6))
    for (let i = 0; i < 6; i++) expect(back[i]).toBeCloseTo(xyz[i], 4)
    const eye = r.points.viewpoint as readonly [number, number, number]
    expect(transformPoint(pose, ...eye)[2]).toBeCloseTo(400, 9)
  })
})
