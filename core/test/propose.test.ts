import { describe, expect, it } from '@jest/globals'
import { proposeRecording, type OfferedScanner } from '../src/capture/propose.ts'
import { designedStereo } from '../src/scanner/spec.ts'
import { makeMesh } from '../src/shape/mesh.ts'
import { boxSolid, cylinderSolid } from '../src/shape/solids.ts'
import { tray } from './tray.ts'

const scanner = (name: string, kind: 'laser-lines' | 'area', ideal: number, distance: OfferedScanner['distance']): OfferedScanner => ({
  name,
  spec: {
    kind,
    design: designedStereo({ width: 1024, height: 768, focal: 1050, baseline: 160, crossing: ideal }),
    range: { near: 0.6 * ideal, ideal, far: 1.5 * ideal },
  },
  distance,
})
// U of a place: 0.035, 0.058 and not known
const alder = scanner('Alder', 'laser-lines', 400, { error: 0.03, U: 0.01 })
const birch = scanner('Birch', 'area', 600, { error: 0.05, U: 0.01 })
const never = scanner('Birch', 'area', 600, null)
const brief = { limit: 0.1, surface: 'matte' as const, planned: false }

describe('what is rehearsed first', () => {
  it('a scanner that can decide the tolerance, the one that sees most of those', () => {
    expect(proposeRecording(tray, [alder, birch], brief).scanner).toMatchObject({ value: 1, why: expect.stringContaining('Birch can decide ± 0.1 mm') })
    expect(proposeRecording(tray, [alder, birch], { ...brief, limit: 0.05 }).scanner?.value).toBe(0)
    expect(proposeRecording(tray, [birch, alder], { ...brief, limit: 0.01 }).scanner).toMatchObject({ value: 1, why: expect.stringContaining('comes nearest') })
    expect(proposeRecording(tray, [never, alder], brief).scanner?.value).toBe(1)
    expect(proposeRecording(tray, [never], brief).scanner?.why).toContain('verified')
    expect(proposeRecording(tray, [], brief).scanner).toBeNull()
    // what mirrors or swallows light is for lines, when they decide as well
    for (const surface of ['glossy', 'dark'] as const) expect(proposeRecording(tray, [alder, birch], { ...brief, surface }).scanner?.value).toBe(0)
    expect(proposeRecording(tray, [scanner('Vague', 'laser-lines', 400, { error: 0.5, U: 0.1 }), birch], { ...brief, surface: 'dark' }).scanner?.value).toBe(1)
  })
  it('held by its shape where that holds it every way; by markers where it could slide or turn, where a frame is lines, or where they are planned', () => {
    expect(proposeRecording(tray, [birch], brief).by.value).toBe('shape')
    expect(proposeRecording(tray, [alder], brief).by).toMatchObject({ value: 'markers', why: expect.stringContaining('lines') })
    expect(proposeRecording(tray, [birch], { ...brief, planned: true }).by.value).toBe('markers')
    // of the scanner that was chosen, whichever is proposed
    expect(proposeRecording(tray, [birch, alder], { ...brief, chosen: 1 })).toMatchObject({ scanner: { value: 0 }, by: { value: 'markers' } })
    // what says where it is needs nothing stuck on the part
    const own = { mm: 0.02, degrees: 0.01 }
    const [table, arm] = (['fringe', 'arm-line'] as const).map((kind) => ({ ...birch, spec: { ...birch.spec, kind, own } }))
    expect([table, arm].map((s) => proposeRecording(tray, [s], { ...brief, planned: true }).by.value)).toEqual(['both', 'own'])
    const plate = proposeRecording(boxSolid(300, 200, 2), [birch], brief).by
    expect([plate.value, plate.why.includes('slide')]).toEqual(['markers', true])
    const round = proposeRecording(cylinderSolid(40, 60), [birch], brief).by
    expect([round.value, /turn about z/.test(round.why)]).toEqual(['markers', true])
  })
  it('a spacing by its size, and not within the noise; a second setup where much looks down; light by its surface', () => {
    const of = (size: number) => proposeRecording(boxSolid(size, size / 2, size / 4), [alder], brief)
    expect([40, 160, 800, 3000].map((size) => of(size).spacing.value)).toEqual([0.5, 1, 2, 3])
    const coarse = proposeRecording(boxSolid(40, 20, 10), [scanner('Far', 'area', 1500, { error: 0.01, U: 0 })], brief).spacing
    expect([coarse.value > 1, coarse.why.includes('scatter')]).toEqual([true, true])
    expect(of(100).setups.value).toBe(2)
    // open below: nothing looks down
    const b = boxSolid(60, 60, 30)
    const open = makeMesh({
      vertices: b.vertices,
      triangles: b.triangles.filter((_, i) => [0, 1, 2].some((k) => b.vertices[3 * b.triangles[3 * Math.floor(i / 3) + k] + 2] > 1)),
    })
    expect(proposeRecording(open, [alder], brief).setups.value).toBe(1)
    const light = (surface: 'matte' | 'dark' | 'glossy') => proposeRecording(tray, [alder], { ...brief, surface }).exposure.value
    expect([light('dark') > 3 * light('matte'), light('glossy') < light('matte'), light('matte') > 0.8, light('matte') < 2]).toEqual([true, true, true, true])
    expect(() => proposeRecording(makeMesh({ vertices: new Float32Array(0), triangles: new Uint32Array(0) }), [], brief)).toThrow(RangeError)
  })
})
