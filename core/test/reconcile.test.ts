import { describe, expect, test } from '@jest/globals'
import { adjustJointly } from '../src/align/joint.ts'
import { fromRotationVector, invertRigid, multiply, transformArray, translation, type Mat4 } from '../src/base/mat4.ts'
import { seeded } from '../src/base/random.ts'
import { quietContext } from '../src/base/run.ts'
import { meshFacts } from '../src/measure/facts.ts'
import { mergePasses } from '../src/merge/merge.ts'
import { estimateNormals } from '../src/shape/normals.ts'
import { makePoints, type Placed, type Points } from '../src/shape/points.ts'
import { reconcileSides, type Sided } from '../src/shape/reconcile.ts'

/** A wavy sheet, x from `from` on, 30 mm wide: neither side of it shows which is out. */
const height = (x: number, y: number) => 3 * Math.sin(x / 9) * Math.cos(y / 11) + 1.2 * Math.sin((x + y) / 5)
function sheet(from: number, seed: number, pitch = 0.5): Float32Array {
  const r = seeded(seed)
  const v: number[] = []
  for (let x = from; x < from + 30; x += pitch)
    for (let y = 0; y < 30; y += pitch) {
      const [a, b] = [x + 0.2 * pitch * r.gauss(), y + 0.2 * pitch * r.gauss()]
      v.push(a, b, height(a, b) + 0.005 * r.gauss())
    }
  return Float32Array.from(v)
}
/** In coordinates of its own, as a file without a word about the scanner. */
function blind(xyz: Float32Array, seed: number, viewpoint?: [number, number, number]): Placed<Points> {
  const r = seeded(seed)
  const pose = fromRotationVector(2 * r.gauss(), 2 * r.gauss(), 2 * r.gauss(), 50 * r.gauss(), 50 * r.gauss(), 50 * r.gauss())
  const back = invertRigid(pose)
  const at = viewpoint && transformArray(back, Float32Array.from(viewpoint), new Float32Array(3))
  return {
    name: `pass ${seed}`,
    pose,
    data: makePoints({ xyz: transformArray(back, xyz, new Float32Array(xyz.length)), viewpoint: at && [at[0], at[1], at[2]] }),
  }
}
const four = (seed: number, viewpoint?: [number, number, number]) =>
  [0, 1, 2, 3].map((k) => blind(sheet(18 * k, seed + k), seed + k, k === 2 ? viewpoint : undefined))
const up = (normals: Float32Array, pose: Mat4) => {
  let above = 0
  for (let i = 0; i < normals.length; i += 3) if (pose[8] * normals[i] + pose[9] * normals[i + 1] + pose[10] * normals[i + 2] > 0) above++
  return above / (normals.length / 3)
}

describe('sides of passes without a viewpoint', () => {
  test.each([10, 20, 30, 40, 50, 60])('sheets that overlap agree on one side, however each of them was turned (%p)', async (seed) => {
    const sided: Sided[] = []
    for (const p of four(seed)) {
      const r = await estimateNormals(p.data, {}, quietContext)
      sided.push({ xyz: p.data.xyz, normals: r.points.normals, pose: p.pose, pieces: r.pieces })
    }
    reconcileSides(sided, 0.5)
    const shares = sided.map((s) => up(s.normals, s.pose))
    const all = shares[0] > 0.5
    for (const share of shares) expect(all ? share : 1 - share).toBeGreaterThan(0.99)
  })
  test('what is known decides; nothing known is turned', async () => {
    for (const [seed, z] of [
      [10, 400],
      [20, -400],
      [30, -400],
    ]) {
      const passes = four(seed, [40, 15, z])
      const sided: Sided[] = []
      for (const p of passes) {
        const r = await estimateNormals(p.data, {}, quietContext)
        sided.push({ xyz: p.data.xyz, normals: r.points.normals, pose: p.pose, pieces: r.pieces })
      }
      const known = [...sided[2].normals]
      reconcileSides(sided, 0.5)
      expect([...sided[2].normals]).toEqual(known)
      for (const s of sided) expect(up(s.normals, s.pose)).toBeCloseTo(z > 0 ? 1 : 0, 1)
    }
  })
  test('the two faces of a sheet thicker than the reach are left alone', async () => {
    const low = sheet(0, 3)
    const high = low.map((v, i) => (i % 3 === 2 ? v + 1.5 : v))
    const sided: Sided[] = []
    for (const [k, xyz] of [low, high].entries()) {
      const p = blind(xyz, 70 + k)
      const r = await estimateNormals(p.data, {}, quietContext)
      sided.push({ xyz: p.data.xyz, normals: r.points.normals, pose: p.pose, pieces: r.pieces })
    }
    expect(reconcileSides(sided, 0.6)).toBe(0)
  })
  test.each([10, 20, 30])('a merge of them is one sheet, no thicker than its noise (%p)', async (seed) => {
    const { mesh, guessedPasses } = await mergePasses(four(seed), { cell: 0.6 }, quietContext)
    expect(guessedPasses).toBe(4)
    const { topology, area } = meshFacts(mesh)
    expect([topology.components, topology.flippedEdges, topology.nonManifoldEdges]).toEqual([1, 0, 0])
    let truth = 0
    for (let x = 0.05; x < 84; x += 0.1)
      for (let y = 0.05; y < 30; y += 0.1)
        truth += 0.01 * Math.hypot(1, (height(x + 0.01, y) - height(x, y)) / 0.01, (height(x, y + 0.01) - height(x, y)) / 0.01)
    expect(Math.abs(area / truth - 1)).toBeLessThan(0.03)
    let ss = 0
    for (let i = 0; i < mesh.vertices.length; i += 3) ss += (mesh.vertices[i + 2] - height(mesh.vertices[i], mesh.vertices[i + 1])) ** 2
    expect(Math.sqrt((3 * ss) / mesh.vertices.length)).toBeLessThan(0.02)
  })
  test.each([10, 20, 30])('an adjustment finds them together (%p)', async (seed) => {
    const passes = four(seed)
    const start = passes.map((p, i) => ({ ...p, pose: multiply(translation(0.3 * (i % 2), -0.2 * (i % 3), 0.25 * (i % 2)), p.pose) }))
    const r = await adjustJointly(start, {}, quietContext)
    expect(r.apart).toEqual([])
    const off = r.poses.map((p, i) => multiply(p, invertRigid(passes[i].pose)))
    for (const m of off) for (const k of [3, 7, 11]) expect(Math.abs(m[k] - off[0][k])).toBeLessThan(0.1)
  })
})
