import { beforeAll, describe, expect, test } from '@jest/globals'
import type { FromPlanner, ToPlanner } from '../src/stages/mark/planworker.ts'
import type { PlanMarker } from '../src/stages/mark/markSlice.ts'

/** The planner's thread without a thread: what it is told and what it answers. */
const answers: FromPlanner[] = []
let tell: (m: ToPlanner) => FromPlanner | undefined
beforeAll(async () => {
  const scope: { onmessage?: (e: { data: ToPlanner }) => void; postMessage(m: FromPlanner): void } = { postMessage: (m) => void answers.push(m) }
  ;(globalThis as { self?: unknown }).self = scope
  await import('../src/stages/mark/planworker.ts')
  tell = (data) => {
    answers.length = 0
    scope.onmessage?.({ data })
    return answers.at(-1)
  }
})

const VIEW = { near: 250, ideal: 400, far: 550, focal: 1050, across: 0.45, up: 0.34 }
const marker = (id: string, x: number, y: number, z = 40): PlanMarker => ({ id, at: [x, y, z], normal: [0, 0, 1], diameter: 6, perch: 'part' })

describe('the planner’s thread', () => {
  test('before a part is known it hides nothing and places nothing', () => {
    expect(tell({ kind: 'hidden', n: 1, eye: [0, 0, 400], places: [[0, 0, 0]] })).toEqual({ kind: 'hidden', n: 1, hidden: null })
    expect(tell({ kind: 'judge', n: 2, markers: [], least: 4, wanted: 6, stock: {} })).toBeUndefined()
    expect(tell({ kind: 'place', n: 3, origin: [0, 0, 400], direction: [0, 0, -1], diameter: 6, clearEdge: 25 })).toBeUndefined()
  })

  test('judges markers on a box, and again when one is gone', () => {
    tell({ kind: 'shape', shape: { kind: 'box', x: 160, y: 120, z: 40 }, up: '+z', view: VIEW, from: 'above' })
    const on = [marker('1', -50, -30), marker('2', 45, -35), marker('3', -40, 33), marker('4', 52, 28), marker('5', 3, 8)]
    const all = tell({ kind: 'judge', n: 4, markers: on, least: 4, wanted: 6, stock: { '6': 2 } })
    if (all?.kind !== 'judged') throw new Error('not judged')
    expect(all.judged.verdict.enough).toBeGreaterThan(0.3)
    expect(all.judged.verdict.warnings.some((w) => w.includes('5 markers of 6 mm are needed, 2 are left'))).toBe(true)
    expect(all.judged.directions.length / 3).toBe(all.judged.verdict.seen.length)
    expect(all.judged.took).toBeGreaterThan(0)
    const few = tell({ kind: 'judge', n: 5, markers: on.slice(1), least: 4, wanted: 6, stock: {} })
    if (few?.kind !== 'judged') throw new Error('not judged')
    expect(few.judged.verdict.weakest).toBeLessThanOrEqual(all.judged.verdict.weakest)
    expect(few.judged.verdict.warnings.some((w) => w.includes('left in the box'))).toBe(false)
  })

  test('puts a marker where the line of sight meets the part, with its room, else on the table', () => {
    const top = tell({ kind: 'place', n: 6, origin: [10, 5, 500], direction: [0, 0, -1], diameter: 6, clearEdge: 25 })
    expect(top).toMatchObject({ kind: 'placed', n: 6, place: { perch: 'part', normal: [0, 0, 1], clear: 25 } })
    if (top?.kind === 'placed') expect(top.place?.at.map((v) => Number(v.toFixed(4)))).toEqual([10, 5, 40])
    const edge = tell({ kind: 'place', n: 7, origin: [74, 5, 500], direction: [0, 0, -1], diameter: 6, clearEdge: 25 })
    if (edge?.kind === 'placed') expect(edge.place?.clear).toBeLessThanOrEqual(5)
    const table = tell({ kind: 'place', n: 8, origin: [200, 0, 500], direction: [0, 0, -1], diameter: 6, clearEdge: 25 })
    expect(table).toMatchObject({ place: { perch: 'table', at: [200, 0, 0], normal: [0, 0, 1] } })
    expect(tell({ kind: 'place', n: 9, origin: [0, 0, 500], direction: [0, 0, 1], diameter: 6, clearEdge: 25 })).toMatchObject({ place: null })
  })

  test('tells what the part hides', () => {
    expect(
      tell({
        kind: 'hidden',
        n: 10,
        eye: [0, -600, 30],
        places: [
          [0, -90, 0],
          [0, 90, 0],
          [0, 0, 40.5],
        ],
      }),
    ).toMatchObject({ hidden: [false, true, true] })
  })

  test('takes a part that stands otherwise, from the arrays of an item, and says what is wrong with one', () => {
    const square = Float32Array.of(0, -60, -60, 0, 60, -60, 0, 60, 60, 0, -60, 60)
    tell({
      kind: 'shape',
      shape: { arrays: { vertices: square, triangles: Uint32Array.of(0, 1, 2, 0, 2, 3) }, pose: [1, 0, 0, 30, 0, 1, 0, 0, 0, 0, 1, 0, 0, 0, 0, 1] },
      up: '+x',
      view: VIEW,
      from: 'above',
    })
    const p = tell({ kind: 'place', n: 11, origin: [500, 3, 4], direction: [-1, 0, 0], diameter: 6, clearEdge: 25 })
    expect(p).toMatchObject({ place: { perch: 'part' } })
    if (p?.kind === 'placed') {
      expect(p.place?.at.map((v) => Number(v.toFixed(4)))).toEqual([30, 3, 4])
      expect(p.place?.normal.map((v) => Math.round(v))).toEqual([1, 0, 0])
    }
    const empty = tell({
      kind: 'shape',
      shape: { arrays: { vertices: new Float32Array(0), triangles: new Uint32Array(0) }, pose: [] },
      up: '+z',
      view: VIEW,
      from: 'all',
    })
    expect(empty).toMatchObject({ kind: 'failed', message: expect.stringMatching(/no surface/) })
    // a pass that does not know which way it faces
    const bare = tell({
      kind: 'shape',
      shape: { arrays: { xyz: Float32Array.of(0, 0, 0) }, pose: [1, 0, 0, 0, 0, 1, 0, 0, 0, 0, 1, 0, 0, 0, 0, 1] },
      up: '+z',
      view: VIEW,
      from: 'all',
    })
    expect(bare).toMatchObject({ kind: 'failed' })
  })
})
