import { describe, expect, it } from '@jest/globals'
import { identity, translation } from '../src/base/mat4.ts'
import { seeded } from '../src/base/random.ts'
import { quietContext } from '../src/base/run.ts'
import { frameOf, readMarkerRecording, readMarkers, writePlacedMarkers } from '../src/formats/markers.ts'
import { readText } from '../src/formats/source.ts'
import { makeMarkers, worstUncertainty, type Markers } from '../src/markers/markers.ts'
import type { Item } from '../src/operations/operation.ts'
import { runOperation } from '../src/operations/registry.ts'
import { oakError, textSource, value } from './help.ts'
import { record, STEREO, strewn } from './marking.ts'

const read = (text: string, unit?: 'mm' | 'in') => readMarkers(text, 'list.csv', unit ?? 'auto')
const refused = (text: string) => oakError(Promise.resolve().then(() => read(text)))

describe('lists of markers', () => {
  const r = seeded(4)
  const l = strewn(r, 12, 300, 200)
  const set = makeMarkers({
    ids: l.diameters.map((_, i) => (i === 3 ? 'top, left' : `M${i + 1}`)),
    ...l,
    covariance: l.diameters.flatMap(() => [9e-6, 0, 0, 9e-6, 0, 2.5e-5]),
  })

  it('come back as they were written, in the coordinates of the job', () => {
    const back = read(writePlacedMarkers(set, translation(100, 0, -20))).markers
    expect(back.ids).toEqual(set.ids)
    for (let i = 0; i < 36; i++) expect(Math.abs(back.positions[i] - set.positions[i] - [100, 0, -20][i % 3])).toBeLessThan(1e-4)
    expect(worstUncertainty(back.covariance, 5)).toBeCloseTo(0.005, 6)
    expect([...back.diameters]).toEqual([...set.diameters])
    expect(back.normals[2]).toBeCloseTo(1, 6)
  })

  it.each([
    ['blanks, comments, no header', '# from photogrammetry\nT1 0.0 0.0 0.0\nT2 61.5 3.2 0.1\nT3 10 55 2 // good\nT4 -40 20 1\n'],
    ['semicolons and decimal commas', 'id;x;y;z\nT1;0,0;0,0;0,0\nT2;61,5;3,2;0,1\nT3;10;55;2\nT4;-40;20;1\n'],
    ['tabs, other order', 'name\tz\ty\tx\nT1\t0\t0\t0\nT2\t0.1\t3.2\t61.5\nT3\t2\t55\t10\nT4\t1\t20\t-40\n'],
    ['commas and line ends of Windows', 'T1,0,0,0\r\nT2,61.5,3.2,0.1\r\nT3,10,55,2\r\nT4,-40,20,1\r\n'],
  ])('are read with %s', (_what, text) => {
    const { markers, unit } = read(text)
    expect(markers.ids).toEqual(['T1', 'T2', 'T3', 'T4'])
    expect([...markers.positions.subarray(3, 6)].map((v) => Number(v.toFixed(4)))).toEqual([61.5, 3.2, 0.1])
    expect(unit).toBe('mm')
  })

  it('bring uncertainties along, for each axis or for all', () => {
    const each = read('id x y z sx sy sz\n1 0 0 0 0.01 0.02 0.03\n2 60 0 0 0.01 0.02 0.03\n3 0 50 0 0.01 0.02 0.03\n')
    expect(worstUncertainty(each.markers.covariance, 1)).toBeCloseTo(0.03, 6)
    const plain = read('1 0 0 0 0.01 0.02 0.03\n2 60 0 0 0.01 0.02 0.03\n3 0 50 0 0.01 0.02 0.03\n')
    expect(worstUncertainty(plain.markers.covariance, 2)).toBeCloseTo(0.03, 6)
    const six = read('a,0,0,0,6,0.02\nb,60,0,0,6,0.02\nc,0,50,0,3,0.02\nd,70,60,0,3,0.02\n')
    expect([...six.markers.diameters]).toEqual([6, 6, 3, 3])
    expect(worstUncertainty(six.markers.covariance, 0)).toBeCloseTo(0.02, 6)
    expect(Number.isNaN(worstUncertainty(read('1 0 0 0\n2 60 0 0\n3 0 50 0\n').markers.covariance, 0))).toBe(true)
  })

  it('in inches are noticed, and read when the unit is said', async () => {
    const inches = 'id,x,y,z\n1,0,0,0\n2,2.36,0,0\n3,0,2.1,0\n4,2.5,2.2,0.1\n'
    const e = await refused(inches)
    expect(e.code).toBe('unit-unknown')
    expect(e.message).toMatch(/as inches that would be/)
    expect(read(inches, 'in').markers.positions[3]).toBeCloseTo(59.944, 3)
    expect(read(inches.replace('id,x,', 'id,x_in,')).unit).toBe('in')
  })

  it('are refused with line and reason when they are wrong', async () => {
    const twice = await refused('id,x,y,z\nA,0,0,0\nB,60,0,0\nA,0,50,0\n')
    expect(twice.code).toBe('duplicate-id')
    expect(twice.message).toMatch(/“A” stands in lines 2 and 4/)
    const word = await refused('id,x,y,z\nA,0,0,0\nB,sixty,0,0\nC,0,50,0\n')
    expect(word.code).toBe('bad-list')
    expect(word.where).toMatch(/line 3/)
    expect((await refused('')).code).toBe('bad-list')
    expect((await refused('id,a,b,c\nA,0,0,0\n')).message).toMatch(/names no columns x, y, z/)
    expect((await refused('A,0,0,0\nB,60,0,0\n')).code).toBe('too-few-markers')
    const touching = await refused('A,0,0,0\nB,60,0,0\nC,60.4,0,0\nD,0,50,0\n')
    expect(touching.code).toBe('double')
    expect(touching.message).toMatch(/B and C are 0.40 mm apart/)
    expect(read('A,0,0,0\nB,60,0,0\nC,0,50,0\n').warnings[0]).toMatch(/bare least/)
  })

  it('are too large for a list beyond 64 MB', async () => {
    const big = { name: 'x.csv', size: 1e9, chunks: () => (async function* () {})() }
    expect((await oakError(readText(big))).code).toBe('too-large')
  })
})

describe('recordings of markers', () => {
  it('are read from our file and from a plain table', () => {
    const json = JSON.stringify({
      format: 'oak-gauge marker frames',
      version: 1,
      optics: STEREO,
      frames: [{ time: 10, markers: [1, 2, 400, 6, 50, 2, 410, 3] }],
    })
    const a = readMarkerRecording(json, 'a.json')
    expect(a.optics?.left.fx).toBe(1050)
    expect([...a.frames[0].diameters]).toEqual([6, 3])
    const b = readMarkerRecording('frame,x,y,z,d\n1,1,2,400,6\n1,50,2,410,3\n2,1,2,401,6\n', 'b.csv')
    expect(b.frames).toHaveLength(2)
    expect([...b.frames[0].xyz]).toEqual([1, 2, 400, 50, 2, 410])
    expect(b.optics).toBeNull()
  })

  it('are refused with place and reason', async () => {
    const bad = (text: string) => oakError(Promise.resolve().then(() => readMarkerRecording(text, 'r')))
    expect((await bad('{"format":')).code).toBe('bad-recording')
    expect((await bad('{"format":"other"}')).where).toMatch(/format/)
    expect((await bad(JSON.stringify({ format: 'oak-gauge marker frames', version: 1, frames: [{ time: 0, markers: [1, 2, 3] }] }))).message).toMatch(
      /Frame 1 holds 3 numbers/,
    )
    expect((await bad('1,2,3,4\n1,2,x,4\n')).where).toMatch(/line 2/)
    expect(frameOf(3, []).diameters).toHaveLength(0)
  })
})

describe('markers as operations', () => {
  const layout = strewn(seeded(1), 30, 320, 240)
  const rec = record(layout, 150, 8)
  const text = JSON.stringify({
    format: 'oak-gauge marker frames',
    version: 1,
    optics: STEREO,
    range: { near: 250, far: 550 },
    scale: 1e-5,
    frames: rec.frames.map((f) => ({
      time: f.time,
      markers: Array.from(f.diameters).flatMap((d, i) => [f.xyz[3 * i], f.xyz[3 * i + 1], f.xyz[3 * i + 2], d]),
    })),
  })
  const file = [{ kind: 'file' as const, source: textSource('markers.json', text, 4096) }]

  it('a map comes from a recording with figures for the whole and for each', async () => {
    const { outputs, evidence } = await runOperation('map-markers', { file }, {}, quietContext)
    const m = outputs['map'][0].data as Markers
    expect(value(evidence, 'markers')).toBe(30)
    expect(value(evidence, 'marker-u-largest')).toBeLessThan(0.03)
    expect(value(evidence, 'marker-u', m.ids[3])).toBeCloseTo(2 * worstUncertainty(m.covariance, 3), 6)
    expect(value(evidence, 'scale-relative-uncertainty')).toBeCloseTo(10, 6)
    expect(value(evidence, 'moved')).toBeUndefined()
    expect(evidence.warnings.filter((w) => w.includes('moved'))).toEqual([])
  })

  it('a map without optics states larger, even uncertainties', async () => {
    const plain = text.replace(/"optics":\{.*?\},"range"/, '"optics":null,"range"')
    expect(plain).toContain('"optics":null')
    const { outputs } = await runOperation('map-markers', { file: [{ kind: 'file', source: textSource('m.json', plain, 4096) }] }, {}, quietContext)
    expect((outputs['map'][0].data as Markers).ids).toHaveLength(30)
  })

  it('setups come together by the markers they share, with their passes', async () => {
    const a: Item<Markers> = {
      name: 'a',
      pose: identity(),
      data: makeMarkers({ ...layout, covariance: layout.diameters.flatMap(() => [1e-5, 0, 0, 1e-5, 0, 1e-5]) }),
    }
    const b: Item<Markers> = { ...a, name: 'b', pose: translation(30, -12, 5) }
    const pass = { name: 'p', pose: translation(30, -12, 5), data: { kind: 'points' as const, xyz: new Float32Array([1, 2, 3]) } }
    const { outputs, evidence } = await runOperation('join-markers', { anchor: [a], loose: [b], passes: [pass], maps: [{ ...b, name: 'c' }] }, {}, quietContext)
    for (const i of [3, 7, 11]) {
      expect(Math.abs(outputs['loose'][0].pose[i])).toBeLessThan(1e-3)
      expect(Math.abs(outputs['passes'][0].pose[i])).toBeLessThan(1e-3)
      expect(Math.abs(outputs['maps'][0].pose[i])).toBeLessThan(1e-3)
    }
    expect(value(evidence, 'markers-in-common')).toBe(30)
    const other: Item<Markers> = { ...a, data: makeMarkers(strewn(seeded(99), 30, 320, 240)) }
    expect((await oakError(runOperation('join-markers', { anchor: [a], loose: [other] }, {}, quietContext))).code).toBe('no-match')
  })

  it('a list comes in with a word about uncertainties it does not state', async () => {
    const r = await runOperation(
      'import-markers',
      { file: [{ kind: 'file', source: textSource('hall.txt', 'A 0 0 0\nB 60 0 0\nC 0 50 0\nD 70 64 2\n') }] },
      {},
      quietContext,
    )
    expect(value(r.evidence, 'markers')).toBe(4)
    expect(r.evidence.warnings.some((w) => w.includes('states no uncertainties'))).toBe(true)
    expect(r.outputs['map'][0].name).toBe('hall')
  })
})
