import { describe, expect, it } from '@jest/globals'
import { strToU8, zipSync } from 'fflate'
import { quietContext } from '../src/base/run.ts'
import { bytesSource } from '../src/formats/source.ts'
import { runOperation } from '../src/operations/registry.ts'
import { translation } from '../src/base/mat4.ts'
import { seeded } from '../src/base/random.ts'
import { orderLines, type ScannedLine } from '../src/capture/orderedlines.ts'
import { triangleAreas, triangleNormal, type Mesh } from '../src/shape/mesh.ts'

const EYE = 120
/** Lines along x, one every `step` mm along y, over a height z(x, y); NaN where nothing is seen. each: how far apart its points are. */
function swept(lines: number, step: number, z: (x: number, y: number) => number, each = 0.25, noise = 0): ScannedLine[] {
  const r = seeded(9)
  return Array.from({ length: lines }, (_, k) => {
    const y = step * k
    const xyz: number[] = []
    for (let x = -30; x <= 30; x += each) {
      const h = z(x, y)
      if (!Number.isNaN(h)) xyz.push(x + noise * r.gauss(), noise * r.gauss(), h - EYE + noise * r.gauss())
    }
    return { xyz: Float32Array.from(xyz), pose: translation(0, y, EYE) }
  })
}
const areaOf = (m: Mesh) => triangleAreas(m).reduce((s, a) => s + a, 0)
function longestEdge({ vertices: v, triangles: t }: Mesh): number {
  let most = 0
  for (let i = 0; i < t.length; i += 3)
    for (let k = 0; k < 3; k++) {
      const [a, b] = [3 * t[i + k], 3 * t[i + ((k + 1) % 3)]]
      most = Math.max(most, Math.hypot(v[a] - v[b], v[a + 1] - v[b + 1], v[a + 2] - v[b + 2]))
    }
  return most
}

describe('lines as ordered data', () => {
  it('a flat sheet: evenly along the lines, whole between them, seen from the scanner', () => {
    const { mesh, lines, leftOut, runs } = orderLines(
      swept(41, 0.8, () => 0),
      { along: 1, gap: 2 },
    )
    expect([lines, leftOut, runs]).toEqual([41, 0, 41])
    // up to half a step at each end of a line
    expect(areaOf(mesh)).toBeGreaterThan(32 * 58.5)
    expect(areaOf(mesh)).toBeLessThan(32 * 60)
    expect(longestEdge(mesh)).toBeLessThan(Math.hypot(1, 0.8) + 0.01)
    for (let i = 0; i < mesh.triangles.length / 3; i++) expect(triangleNormal(mesh.vertices, mesh.triangles, i)[2]).toBeGreaterThan(0.999)
    // two triangles a step between two lines
    expect(mesh.triangles.length / 3).toBe(40 * 2 * (mesh.vertices.length / 3 / 41 - 1))
  })
  it('means of what lies along a line scatter less than its points', () => {
    const { mesh } = orderLines(
      swept(30, 0.8, () => 0, 0.05, 0.04),
      { along: 1, gap: 2 },
    )
    let squares = 0
    for (let i = 2; i < mesh.vertices.length; i += 3) squares += mesh.vertices[i] ** 2
    expect(Math.sqrt((3 * squares) / mesh.vertices.length)).toBeLessThan(0.012)
  })
  it('a gap is open where it is wider than what is one surface, along a line and between two; and closed where it is not', () => {
    const hole = (x: number, y: number) => (Math.abs(x) < 3 && y > 10 && y < 20 ? NaN : 0)
    const whole = orderLines(swept(41, 0.8, hole), { along: 1, gap: 8 })
    const open = orderLines(swept(41, 0.8, hole), { along: 1, gap: 2 })
    expect([whole.runs, open.runs]).toEqual([41, 41 + 12])
    expect(areaOf(whole.mesh) - areaOf(open.mesh)).toBeGreaterThan(0.7 * 6 * 10)
    expect(longestEdge(open.mesh)).toBeLessThan(Math.hypot(2, 1.1))
    const parted = swept(41, 0.8, () => 0).filter((_, k) => k < 20 || k > 24)
    const area = (gap: number) => areaOf(orderLines(parted, { along: 1, gap }).mesh)
    expect(area(5) - area(2)).toBeGreaterThan(4 * 58)
    expect([2, 5].map((gap) => orderLines(parted, { along: 1, gap }).parted)).toEqual([1, 0])
  })
  it('a step that is higher than that belongs to two surfaces, a slope to one', () => {
    const step = orderLines(
      swept(41, 0.8, (x) => (x < 0 ? 0 : 6)),
      { along: 1, gap: 2 },
    )
    expect(step.runs).toBe(82)
    expect(areaOf(step.mesh)).toBeLessThan(32 * 60)
    const slope = orderLines(
      swept(41, 0.8, (x) => (x < 0 ? 0 : x)),
      { along: 1, gap: 2 },
    )
    expect(slope.runs).toBe(41)
    expect(areaOf(slope.mesh) / (32 * 30 * (1 + Math.SQRT2))).toBeGreaterThan(0.97)
  })
  it('a hand that stands still gives no slivers; a line that sees nothing parts what lies before and after it', () => {
    const lines = swept(41, 0.8, () => 0)
    const still = orderLines(
      lines.flatMap((l) => [l, l, { ...l, pose: translation(0.1, l.pose[7] + 0.1, EYE) }]),
      { along: 1, gap: 2 },
    )
    expect([still.lines, still.leftOut]).toEqual([41, 82])
    const blind = orderLines([...lines.slice(0, 20), { xyz: new Float32Array(0), pose: lines[20].pose }, ...lines.slice(20)], { along: 1, gap: 2 })
    expect(areaOf(blind.mesh)).toBeLessThan(39.5 * 0.8 * 60)
    expect(orderLines([], { along: 1, gap: 2 }).mesh.triangles.length).toBe(0)
  })
  it('that lie too far apart to be joined are said to be, in the pass they come with', async () => {
    const lines = swept(30, 2.5, (x) => Math.sin(x / 9))
    const files = lines.map((l, k) => [
      `line${k}.xyz`,
      strToU8(Array.from({ length: l.xyz.length / 3 }, (_, i) => l.xyz.subarray(3 * i, 3 * i + 3).join(' ')).join('\n')),
    ])
    const list = {
      unit: 'mm',
      lines: true,
      noise: 0.02,
      own: { mm: 0.01, degrees: 0.005 },
      frames: lines.map((l, k) => ({ file: `line${k}.xyz`, pose: [...l.pose].slice(0, 12) })),
    }
    const source = bytesSource('lines.zip', zipSync({ 'frames.json': strToU8(JSON.stringify(list)), ...Object.fromEntries(files) }))
    const said = async (gap: number) => {
      const r = await runOperation('solve-recording', { file: [{ kind: 'file', source }] }, { ordered: { along: 1, gap }, spacing: 3 }, quietContext)
      return r.evidence.warnings.filter((w) => /not joined/.test(w))
    }
    expect(await said(3)).toEqual([])
    expect(await said(2)).toEqual([expect.stringMatching(/^29 of 30 lines lie further than 2 mm from the one before/)])
  })
  it('distances of nothing are refused', () => {
    expect(() => orderLines([], { along: 0, gap: 1 })).toThrow(RangeError)
    expect(() => orderLines([], { along: 1, gap: -1 })).toThrow(RangeError)
  })
})
