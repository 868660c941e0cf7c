import { describe, expect, it } from '@jest/globals'
import { coverageOf } from '../src/inspect/coverage.ts'
import { keepTriangles, makeMesh, type Mesh } from '../src/shape/mesh.ts'
import { boxSolid } from '../src/shape/solids.ts'

const whole = boxSolid(40, 30, 20)
/** without the triangles of one face */
const without = (m: Mesh, face: number) =>
  keepTriangles(
    m,
    Uint8Array.from(m.faces!, (f) => (f === face ? 0 : 1)),
  )

describe('how much of a nominal was measured', () => {
  it('all of it, and all but one face, to a share of a percent', () => {
    expect(coverageOf(whole, whole, 0.5).covered).toBe(1)
    // 40 x 30 of twice 40 x 30, 40 x 20, 30 x 20; rims of what is missing lie within reach of what is not
    const c = coverageOf(whole, without(whole, 1), 0.5)
    expect(c.covered).toBeCloseTo(1 - 1200 / 5200, 2)
    const top = c.faces.find((f) => f.face === 1)!
    expect([top.covered, top.at]).toEqual([0, undefined])
    expect(top.area).toBeCloseTo(1200, -1)
    expect(top.normal[2]).toBeCloseTo(1, 5)
    expect(c.faces.filter((f) => f.face !== 1).every((f) => f.covered > 0.99 && f.at !== undefined)).toBe(true)
    expect(c.faces.map((f) => f.area)).toEqual([...c.faces.map((f) => f.area)].sort((a, b) => b - a))
  })
  it('what was filled covers nothing; the other side of a sheet is another side', () => {
    const filled = makeMesh({ ...whole, unmeasured: Uint8Array.from(whole.faces!, (f) => (f === 1 ? 1 : 0)) })
    expect(coverageOf(whole, filled, 0.5).faces.find((f) => f.face === 1)!.covered).toBe(0)
    const sheet = boxSolid(100, 80, 0.4)
    const c = coverageOf(sheet, without(sheet, 0), 1)
    expect([c.faces.find((f) => f.face === 0)!.covered, c.faces.find((f) => f.face === 1)!.covered]).toEqual([0, 1])
  })
  it('a nominal that knows no faces is told apart by the way it looks', () => {
    const { vertices, triangles } = whole
    const c = coverageOf(makeMesh({ vertices, triangles }), without(whole, 0), 0.5)
    expect(c.faces).toHaveLength(6)
    expect(c.faces.find((f) => f.face === 5)!.covered).toBe(0)
  })
})
