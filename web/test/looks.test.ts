import { describe, expect, test } from '@jest/globals'
import type { TrayItem } from '@oak-gauge/contract'
import type { CadSurface } from '@oak-gauge/core/base/cad.ts'
import { surfaceWords } from '../src/looks/surface.ts'
import { formatLength, formatLengths, parseLength } from '../src/looks/length.ts'
import { bytes, count, duration, fixed, formatValue, short } from '../src/looks/quantity.ts'
import { creased, normalsOf, seamed } from '../src/view/geometry.ts'
import { previewTrim } from '../src/stages/clean/trim.ts'

describe('faces of a drawing in words', () => {
  const at: Omit<Extract<CadSurface, { kind: 'torus' }>, 'kind' | 'major' | 'minor' | 'hollow'> = { area: 4658.98, point: [0, 0, 0], axis: [0, 0, 1] }
  test.each<[CadSurface, string]>([
    [{ ...at, kind: 'cylinder', radius: 5.0000000001, hollow: true }, 'bore ⌀ 10 mm'],
    [{ ...at, kind: 'cylinder', radius: 15.875, hollow: false }, 'cylinder ⌀ 31.75 mm'],
    [{ ...at, kind: 'cone', radius: 2, halfAngle: Math.PI / 4, hollow: true }, 'countersink of 90°'],
    [{ ...at, kind: 'torus', major: 12, minor: 2.5, hollow: false }, 'ring of radius 2.5 round ⌀ 24 mm'],
    [{ kind: 'sphere', area: at.area, point: at.point, radius: 4, hollow: true }, 'hollow ball ⌀ 8 mm'],
    [{ kind: 'plane', area: at.area, point: at.point, normal: [0, 0, 1] }, 'plane, 4\u202f659 mm²'],
    [{ kind: 'free', area: 0.01234 }, 'free form, 0.01234 mm²'],
  ])('%#', (s, words) => expect(surfaceWords(s)).toBe(words))
})

describe('lengths as people type them', () => {
  test.each<[string, number | null]>([
    ['0.1', 0.1],
    ['.1', 0.1],
    ['0,1', 0.1],
    [',5', 0.5],
    ['4 in', 101.6],
    ['4in', 101.6],
    ['2 cm', 20],
    ['1 m', 1000],
    ['12 µm', 0.012],
    ['± 0.2', 0.2],
    ['-3', -3],
    ['1e-2', 0.01],
    ['', null],
    ['abc', null],
    ['1 2', null],
    ['4 parsecs', null],
  ])('“%s”', (text, mm) => {
    const v = parseLength(text)
    if (mm === null) expect(v).toBeNull()
    else expect(v).toBeCloseTo(mm, 12)
  })
  test.each<[number, string]>([
    [0.2, '0.20'],
    [0.3, '0.30'],
    [0.775, '0.775'],
    [0.0049, '0.0049'],
    [1, '1.00'],
    [15, '15.0'],
    [150, '150'],
    [0, '0.00'],
    [NaN, '–'],
  ])('%s is shown as %s', (v, text) => {
    expect(formatLength(v)).toBe(text)
  })
  test('what is shown reads back', () => {
    for (const v of [0.1, 0.25, 1.5, 12.5, 300]) expect(parseLength(formatLength(v))).toBeCloseTo(v, 6)
  })
})

describe('numbers never have more digits than their uncertainty deserves', () => {
  test.each<[Parameters<typeof formatValue>[0], string]>([
    [{ value: 0.41732, unit: 'mm', u: 0.0085 }, '0.417'],
    [{ value: 0.41732, unit: 'mm', u: 0.1 }, '0.42'],
    [{ value: 1322743, unit: '' }, '1\u202f322\u202f743'],
    [{ value: 82.7412, unit: '%' }, '82.7'],
    [{ value: 0.3642, unit: '%' }, '0.36'],
    [{ value: 0.0048, unit: 'mm' }, '0.0048'],
    [{ value: 101.6, unit: 'mm' }, '101.60'],
    [{ value: -0.00001, unit: 'mm' }, '0.0000'],
    [{ value: 'open', unit: '' }, 'open'],
    [{ value: Infinity, unit: 'mm' }, '–'],
  ])('%j', (q, text) => {
    expect(formatValue(q)).toBe(text)
  })
  test('counts, sizes and times', () => {
    expect([short(999), short(12_345), short(1_480_000), count(1234)]).toEqual(['999', '12 k', '1.48 M', '1\u202f234'])
    expect([bytes(84), bytes(25_475_384), bytes(2048)]).toEqual(['84 B', '25.5 MB', '2.0 kB'])
    expect([duration(120), duration(2340), duration(75_000)]).toEqual(['120 ms', '2.3 s', '1 min 15 s'])
  })
})

describe('what the stage draws', () => {
  // two triangles of a unit square, counter-clockwise from above
  const v = Float32Array.of(0, 0, 0, 1, 0, 0, 1, 1, 0, 0, 1, 0)
  const t = Uint32Array.of(0, 1, 2, 0, 2, 3)
  test('smooth normals look up', () => {
    const n = normalsOf(v, t)
    for (let i = 0; i < 4; i++) expect([n[3 * i], n[3 * i + 1], Math.sign(n[3 * i + 2])]).toEqual([0, 0, 1])
  })
  test('along an edge each face has its own normals, and what is smooth stays shared', () => {
    // a roof of two slopes of 45 degrees along y, each of four triangles
    const roof = Float32Array.of(-1, 0, 0, 0, 0, 1, 1, 0, 0, -1, 1, 0, 0, 1, 1, 1, 1, 0, -2, 0, -1, -2, 1, -1)
    const tri = Uint32Array.of(0, 1, 3, 1, 4, 3, 1, 2, 4, 2, 5, 4, 6, 0, 7, 0, 3, 7)
    const c = creased(roof, tri)
    const n = (i: number) => [...c.normals.subarray(3 * i, 3 * i + 3)]
    const unit = (a: number[]) => a.map((x) => Math.round((1e6 * x) / Math.hypot(...a)) / 1e6)
    const h = Math.round(1e6 * Math.SQRT1_2) / 1e6
    tri.forEach((old, i) => {
      const at = c.index[i]
      expect(c.source[at]).toBe(old)
      expect([...c.positions.subarray(3 * at, 3 * at + 3)]).toEqual([...roof.subarray(3 * old, 3 * old + 3)])
      // the left slope looks up and left, the right one up and right, wherever the corner lies
      expect(unit(n(at)).map((x) => x + 0)).toEqual([i < 6 || i >= 12 ? -h : h, 0, h])
    })
    // the ridge alone is divided: two vertices of it, in three corners each and one, less than all eighteen corners
    expect(c.source.length - 8).toBe(6)
    const flat = creased(v, t)
    expect([flat.source.length, flat.index === t]).toEqual([4, true])
  })
  test('every corner of a nominal knows its face', () => {
    const s = seamed(v, t, Uint32Array.of(7, 9))
    expect([...s.faces]).toEqual([7, 7, 7, 9, 9, 9])
    expect(s.positions).toHaveLength(18)
    expect([...seamed(v, t, undefined).faces]).toEqual([-1, -1, -1, -1, -1, -1])
  })
})

describe('what a trim plane would take away', () => {
  const item = (count: number, pose = [1, 0, 0, 0, 0, 1, 0, 0, 0, 0, 1, 0, 0, 0, 0, 1]) => ({ count, pose }) as TrayItem
  const places = [
    [0, 0, 0],
    [9, 0, 0],
    [0, 9, 0],
  ].map((at) => ({ at: at as [number, number, number], slot: 's', face: null }))
  // 60 points on the table, 40 on the part 10 mm above
  const xyz = Float32Array.from({ length: 300 }, (_, i) => (i % 3 === 2 ? (i < 180 ? 0 : 10) : i % 7))
  test('the table goes, the part stays; shown points speak for all', () => {
    const p = previewTrim(places, 15, 0.3, false, [{ item: item(10_000), arrays: { xyz } }])
    expect(p?.share).toBeCloseTo(0.6, 6)
    expect([p?.points, p?.left]).toEqual([6000, 4000])
    expect(p?.plane.normal[2]).toBeCloseTo(1, 9)
    expect(p?.plane.offset).toBeCloseTo(0.3, 9)
  })
  test('flipped, the part would go', () => {
    expect(previewTrim(places, 15, 0.3, true, [{ item: item(100), arrays: { xyz } }])?.share).toBeCloseTo(1, 6)
  })
  test('a pass with a pose is judged where it lies', () => {
    const shifted = item(100, [1, 0, 0, 0, 0, 1, 0, 0, 0, 0, 1, 5, 0, 0, 0, 1])
    expect(previewTrim(places, 15, 0.3, false, [{ item: shifted, arrays: { xyz } }])?.share).toBe(0)
  })
  test('one place: a plane is fitted around it; too few places say nothing yet', () => {
    const p = previewTrim([{ at: [3, 3, 0], slot: 's', face: null }], 9, 0.3, false, [{ item: item(100), arrays: { xyz } }])
    expect(p?.share).toBeCloseTo(0.6, 6)
    expect(previewTrim(places.slice(0, 2), 15, 0.3, false, [{ item: item(100), arrays: { xyz } }])).toBeNull()
  })
})

test('lengths of one scale have equal digits', () => {
  expect(formatLengths([0.1, 0.325, 0.55, 0.775, 1])).toEqual(['0.100', '0.325', '0.550', '0.775', '1.000'])
  expect(formatLengths([0.1, 0.3])).toEqual(['0.10', '0.30'])
  expect(formatLengths([0.1, NaN])).toEqual(['0.10', '–'])
  expect(formatLengths([])).toEqual([])
})

test('columns of numbers: so many decimals, no sign of nothing, a dash for what is none', () => {
  expect([fixed(1.005, 1), fixed(-0.0004, 3), fixed(-0.2, 0), fixed(-0.6, 0), fixed(NaN, 2), fixed(Infinity, 2)]).toEqual(['1.0', '0.000', '0', '-1', '–', '–'])
})
