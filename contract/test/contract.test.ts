import { describe, expect, test } from '@jest/globals'
import {
  chain,
  currentStage,
  deviationColour,
  fileQuery,
  jobFields,
  LINEN,
  nudgeRequest,
  packHeader,
  padding,
  STAGES,
  jobPatch,
  stageStates,
  startMapping,
  stepRequest,
  unpack,
  type ContainerEntry,
  type Step,
  type TrayItem,
} from '../src/index.ts'

const step = (id: string, parent: string | null, operation: string, warnings: string[] = []): Step =>
  ({ id, parent, operation, evidence: { quantities: [], warnings } }) as unknown as Step
const item = (role: TrayItem['role']) => ({ role }) as TrayItem

describe('the container of arrays', () => {
  test('any mix of arrays comes back, each at a multiple of four bytes', () => {
    const arrays = { a: Float32Array.of(1.5, -2), odd: Uint8Array.of(1, 2, 3), b: Uint32Array.of(7, 4_000_000_000) }
    const entries: ContainerEntry[] = [
      { name: 'a', type: 'f32', length: 2 },
      { name: 'odd', type: 'u8', length: 3 },
      { name: 'b', type: 'u32', length: 2 },
    ]
    const parts = [packHeader(entries), ...Object.values(arrays).flatMap((x) => [new Uint8Array(x.buffer), new Uint8Array(padding(x.byteLength))])]
    const whole = new Uint8Array(parts.reduce((s, p) => s + p.length, 0))
    let at = 0
    for (const p of parts) {
      whole.set(p, at)
      at += p.length
    }
    const back = unpack(whole.buffer)
    expect(back).toEqual(arrays)
  })
})

describe('the colours of a deviation', () => {
  test('linen inside the limit, four steps, then beyond; the two signs never share a colour', () => {
    expect(deviationColour(0.1, 0.1, 1)).toBe(LINEN)
    expect(deviationColour(-0.05, 0.1, 1)).toBe(LINEN)
    expect(deviationColour(NaN, 0.1, 1)).toBe(LINEN)
    const seen = new Set<string>()
    for (const v of [0.2, 0.4, 0.7, 0.9, 1.1]) for (const s of [1, -1]) seen.add(deviationColour(s * v, 0.1, 1).join())
    expect(seen.size).toBe(10)
  })
  test('lightness falls with the size of the deviation, so that it can be read without colour', () => {
    const light = (v: number) => {
      const [r, g, b] = deviationColour(v, 0.1, 1)
      return 0.3 * r + 0.59 * g + 0.11 * b
    }
    for (const s of [1, -1])
      for (const [a, b] of [
        [0, 0.2],
        [0.2, 0.4],
        [0.4, 0.7],
        [0.7, 0.9],
        [0.9, 1.2],
      ])
        expect(light(s * a)).toBeGreaterThan(light(s * b))
  })
})

describe('stages are told from the ledger alone', () => {
  test('a path leads from the first step to the head, whatever else there is', () => {
    const steps = [step('a', null, 'import'), step('b', 'a', 'thin'), step('x', 'a', 'strays'), step('c', 'b', 'merge')]
    expect(chain(steps, 'c').map((s) => s.id)).toEqual(['a', 'b', 'c'])
    expect(chain(steps, 'x').map((s) => s.id)).toEqual(['a', 'x'])
    expect(chain(steps, null)).toEqual([])
  })
  test('what is not begun is open, what has a warning wants a look', () => {
    const empty = stageStates([], [], { tolerance: null })
    expect(STAGES.map((s) => empty[s])).toEqual(['work', ...Array.from({ length: STAGES.length - 1 }, () => 'open')])
    expect(currentStage(empty)).toBe('Capture')
    const path = [step('a', null, 'import'), step('b', 'a', 'trim-plane'), step('c', 'b', 'adjust', ['Pass 2 is not held: free to slide along x.'])]
    const states = stageStates(path, [item('pass')], { tolerance: 0.2 })
    expect([states.Brief, states.Capture, states.Clean, states.Align, states.Merge]).toEqual(['good', 'good', 'good', 'look', 'open'])
    expect(currentStage(states)).toBe('Align')
    const fine = stageStates([...path.slice(0, 2), step('c', 'b', 'adjust')], [item('pass')], { tolerance: 0.2 })
    expect(currentStage(fine)).toBe('Merge')
  })
  test('markers: planned is begun, mapped is good, one that moved wants a look; then comes Capture', () => {
    const planned = stageStates([step('a', null, 'plan-markers')], [], { tolerance: 0.2 })
    expect([planned.Mark, currentStage(planned)]).toEqual(['work', 'Mark'])
    const mapped = stageStates([step('a', null, 'plan-markers'), step('b', 'a', 'map-markers')], [], { tolerance: 0.2 })
    expect([mapped.Mark, currentStage(mapped)]).toEqual(['good', 'Capture'])
    const moved = stageStates([step('a', null, 'map-markers', ['Marker 3 moved.'])], [], { tolerance: 0.2 })
    expect([moved.Mark, currentStage(moved)]).toEqual(['look', 'Mark'])
    // markers do not hold back a job that went on without them
    const later = stageStates([step('a', null, 'import'), step('b', 'a', 'trim-plane')], [item('pass')], { tolerance: 0.2 })
    expect([later.Mark, currentStage(later)]).toEqual(['open', 'Align'])
  })
})

describe('requests', () => {
  test('a mapping names its scanner and setup, a nudge its marker and a length', () => {
    const id = '00000000-0000-4000-8000-000000000001'
    expect(startMapping.parse({ scanner: id, setup: id })).toEqual({ scanner: id, setup: id, known: null, target: 0.02, cold: false })
    expect(startMapping.safeParse({ scanner: id, setup: id, target: 0 }).success).toBe(false)
    expect(startMapping.safeParse({ scanner: 'Alder', setup: id }).success).toBe(false)
    expect(nudgeRequest.safeParse({ marker: '3', distance: -1 }).success).toBe(false)
    expect(nudgeRequest.parse({ marker: '3', distance: 0.3 })).toEqual({ marker: '3', distance: 0.3 })
    expect(fileQuery.parse({ name: 'a.csv', role: 'marker-map' }).role).toBe('marker-map')
    expect(fileQuery.safeParse({ name: 'a.csv', role: 'marker-plan' }).success).toBe(false)
  })
  test('a job needs a name and a tolerance above nothing', () => {
    expect(jobFields.safeParse({ title: ' ' }).success).toBe(false)
    expect(jobFields.safeParse({ title: 'x', tolerance: 0 }).success).toBe(false)
    expect(jobFields.parse({ title: ' x ' })).toMatchObject({ title: 'x', tolerance: null, purpose: 'inspection' })
  })
  test('a step names slots by their ids', () => {
    expect(stepRequest.safeParse({ operation: 'thin', inputs: { passes: ['no id'] } }).success).toBe(false)
    expect(stepRequest.parse({ operation: 'thin' })).toEqual({ operation: 'thin', inputs: {}, params: {}, preview: false })
  })
})

describe('a change of a job', () => {
  it('names only what changes', () => {
    expect(jobPatch.parse({ scanner: null })).toEqual({ scanner: null })
    expect(jobPatch.parse({ tolerance: 0.1 })).toEqual({ tolerance: 0.1 })
    expect(jobPatch.safeParse({ tolerance: -1 }).success).toBe(false)
  })
})
