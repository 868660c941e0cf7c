import { describe, expect, test } from '@jest/globals'
import { meshFacts } from '@oak-gauge/core/measure/facts.ts'
import { boundingBox } from '@oak-gauge/core/shape/points.ts'
import { box, divide, together } from '../src/divide.ts'
import { bendAt, DEFECTS, spoilBracket, wearAt } from '../src/parts/defects.ts'

describe('the hidden defects are what they are written down as', () => {
  test('the foot is straight up to 30 mm, then rises to 0.8 mm at its end, without a kink', () => {
    expect([bendAt(-80), bendAt(30), bendAt(80)]).toEqual([0, 0, DEFECTS.bentFoot.rise])
    expect(bendAt(30.001)).toBeLessThan(1e-6)
  })
  test('the face is worn deepest where it is said', () => {
    expect(wearAt(DEFECTS.wornFace.z)).toBe(DEFECTS.wornFace.depth)
    expect(wearAt(DEFECTS.wornFace.z + 3 * DEFECTS.wornFace.width)).toBeLessThan(0.01)
  })
  test('spoiling moves the right places and leaves the others', () => {
    const block = spoilBracket(divide(box([40, -10, 0], [80, 10, 14]), 4))
    const b = boundingBox(block.vertices)
    expect(b[5]).toBeCloseTo(14 + DEFECTS.bentFoot.rise, 5)
    expect([b[0], b[3], b[1], b[4]]).toEqual([40, 80, -10, 10])
  })
})

describe('dividing', () => {
  test('keeps the shape, closed, with no edge longer than asked, also where the limit depends on the place', () => {
    for (const limit of [3, (x: number) => (x < 10 ? 1 : 6)] as const) {
      const m = divide(box([0, 0, 0], [20, 10, 5]), limit)
      const facts = meshFacts(m)
      expect(facts.topology.openEdges).toBe(0)
      expect(facts.volume).toBeCloseTo(1000, 3)
      expect(facts.area).toBeCloseTo(700, 3)
      for (let i = 0; i < m.triangles.length; i++) {
        const a = 3 * m.triangles[i]
        const c = 3 * m.triangles[i - (i % 3) + ((i + 1) % 3)]
        const d = Math.hypot(...[0, 1, 2].map((k) => m.vertices[a + k] - m.vertices[c + k]))
        const middle = (m.vertices[a] + m.vertices[c]) / 2
        // an edge that runs out of the fine part may stay as long as it is
        if (typeof limit !== 'number' && Math.abs(middle - 10) < 0.5) continue
        const at = typeof limit === 'number' ? limit : limit(middle)
        expect(d).toBeLessThanOrEqual(at + 1e-6)
      }
    }
  })
  test('two bodies in one mesh stay two', () => {
    const facts = meshFacts(together(box([0, 0, 0], [1, 1, 1]), box([5, 0, 0], [7, 2, 2])))
    expect(facts.topology.components).toBe(2)
    expect(facts.volume).toBeCloseTo(9, 6)
  })
})
