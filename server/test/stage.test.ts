import { describe, expect, it } from '@jest/globals'
import { boxSolid } from '@oak-gauge/core/shape/solids.ts'
import { makeMarkers } from '@oak-gauge/core/markers/markers.ts'
import { compareMarkers } from '@oak-gauge/core/markers/compare.ts'
import { identity, multiply, translation } from '@oak-gauge/core/base/mat4.ts'
import { wayRound } from '@oak-gauge/core/capture/wayround.ts'
import { movedBody } from '../src/markers/path.ts'
import { placementSheet } from '../src/markers/sheet.ts'
import { benchOf, onStage, setStage, slide, stageInput } from '../src/markers/stage.ts'

const plan = {
  positions: [0, 0, 40, 55, 10, 40, -50, 20, 40, 20, -35, 40, -30, -40, 40, 150, 0, 0, -140, 60, 0],
  normals: Array.from({ length: 21 }, (_, i) => (i % 3 === 2 ? 1 : 0)),
  diameters: [6, 3, 6, 6, 3, 6, 6],
  perch: [0, 0, 0, 0, 0, 1, 1],
}
const part = boxSolid(160, 120, 40)
const stage = (place: number) => setStage({ plan, up: '+z', part, place, seed: place })

describe('what stands before a stand-in', () => {
  it('is the plan, stuck by a hand that misses by a millimetre along the surface', async () => {
    const s = await stage(0)
    expect(s.diameters).toEqual(plan.diameters)
    const off = plan.positions.map((v, i) => s.positions[i] - v)
    expect(Math.max(...off.map(Math.abs))).toBeLessThan(5)
    expect(Math.hypot(...off)).toBeGreaterThan(1)
    // never into the part or above it
    for (let i = 2; i < off.length; i += 3) expect(Math.abs(off[i])).toBeLessThan(1e-9)
    expect(await stage(0)).toEqual(s)
    expect(benchOf(s).map((t) => t.kind)).toEqual(['markers', 'solid'])
    expect(s.solid?.triangles).toHaveLength(36)
  })

  it('in the second setup lies upside down: what sticks on the part keeps its distances, what stood on the table was put up anew', async () => {
    const [a, b] = [await stage(0), await setStage({ plan, up: '+z', part, place: 1, seed: 0 })]
    const d = compareMarkers(makeMarkers(a), makeMarkers(b), { slack: 0.05 })
    expect(d.same.map((p) => p.a).sort()).toEqual([0, 1, 2, 3, 4])
    expect(b.normals[2]).toBeCloseTo(-1, 6)
    expect(b.normals[17]).toBeCloseTo(1, 6)
  })

  it('is the marking board where there is no plan', async () => {
    const s = await setStage({ plan: null, up: '+z', part: null, place: 0, seed: 0 })
    expect(s.diameters).toHaveLength(40)
    expect(s.solid).toBeNull()
    expect(s.box[3] - s.box[0]).toBeLessThan(400)
  })

  it('turns with the part that stands otherwise in the job, and takes shapes by their size', () => {
    const input = stageInput({ up: '+x', shape: { kind: 'box', x: 10, y: 20, z: 30 } }, plan, null, 2)
    expect([input.up, input.place, input.part?.triangles.length]).toEqual(['+x', 2, 36])
    const xs = Array.from(input.part?.vertices ?? []).filter((_, i) => i % 3 === 0)
    expect(Math.max(...xs) - Math.min(...xs)).toBeCloseTo(30, 4)
    expect(stageInput({ up: 'sideways' }, null, part, 0).up).toBe('+z')
  })

  it('knows which of its markers one of a map is, and slides it along its ground', async () => {
    const s = await stage(0)
    const moved = multiply(translation(5, -300, 12), Float64Array.of(0, -1, 0, 0, 1, 0, 0, 0, 0, 0, 1, 0, 0, 0, 0, 1))
    const known = [3, 0, 1, 4, 2].map((i) => {
      const [x, y, z] = s.positions.slice(3 * i, 3 * i + 3)
      return { x: moved[0] * x + moved[1] * y + moved[3], y: moved[4] * x + moved[5] * y + moved[7], z: z + 12, diameter: s.diameters[i] }
    })
    expect(onStage(s, known, 0)).toBe(3)
    expect(onStage(s, known, 4)).toBe(2)
    expect(onStage(s, known.slice(0, 3), 0)).toBe(-1)
    const before = s.positions.slice()
    slide(s, 3, 0.3)
    const d = s.positions.map((v, i) => v - before[i])
    expect(Math.hypot(...d)).toBeCloseTo(0.3, 9)
    expect(d[11]).toBe(0)
  })
})

describe('the virtual hand', () => {
  it('goes round at the ideal distance and looks at what is marked', () => {
    const box = [-150, -100, 0, 150, 100, 40]
    for (const t of [0, 0.2, 0.5, 0.9]) {
      const m = wayRound(box, 400, t)
      // where the line of sight meets the height of the middle
      const k = (20 - m[11]) / m[10]
      expect(k).toBeGreaterThan(360)
      expect(k).toBeLessThan(440)
      expect(Math.abs(m[3] + k * m[2])).toBeLessThan(100)
      expect(Math.abs(m[7] + k * m[6])).toBeLessThan(60)
    }
  })
  it('moves as the scanner sees it', () => {
    const still = { away: 0, right: 0, down: 0, topAway: 0, rightAway: 0, turn: 0 }
    expect([...movedBody(identity(), { ...still, away: 30 })].slice(8, 12)).toEqual([0, 0, 1, -30])
    const over = wayRound([-50, -50, 0, 50, 50, 0], 400, 0)
    const right = movedBody(over, { ...still, right: 10 })
    expect([3, 7, 11].map((i) => Number((right[i] - over[i] - 10 * over[i - 3]).toFixed(9)))).toEqual([0, 0, 0])
    expect(movedBody(identity(), { ...still, turn: 90 })[1]).toBeCloseTo(-1, 9)
  })
})

describe('the sheet to print', () => {
  it('has a list, faces at 1:1 over as many pages as they need, and the table from above', async () => {
    const pages = async (mesh: typeof part | null, perch = plan.perch) => {
      const pdf = placementSheet({ title: 'Cover', part: 'cast' }, makeMarkers({ ...plan, perch }), mesh)
      const parts: Buffer[] = []
      for await (const p of pdf) parts.push(p as Buffer)
      return (
        Buffer.concat(parts)
          .toString('latin1')
          .match(/\/Type \/Page\b/g) ?? []
      ).length
    }
    // a list, the top face of 160 x 120 mm, the table
    expect(await pages(part)).toBe(3)
    expect(await pages(null)).toBe(2)
    // 320 mm across: two sheets
    const wide = boxSolid(320, 120, 40)
    expect(await pages(wide, [0, 0, 0, 0, 0, 0, 0])).toBeGreaterThanOrEqual(3)
  })
})
