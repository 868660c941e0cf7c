import { describe, expect, it } from '@jest/globals'
import { strToU8, zipSync } from 'fflate'
import { fromRotationVector, identity, multiply, transformPoint, translation, type Mat4 } from '../src/base/mat4.ts'
import { seeded } from '../src/base/random.ts'
import { quietContext } from '../src/base/run.ts'
import { crc32c, readE57Scans } from '../src/formats/e57.ts'
import { readFrames } from '../src/formats/frames.ts'
import { readAny } from '../src/formats/index.ts'
import { bytesSource } from '../src/formats/source.ts'
import type { Points } from '../src/shape/points.ts'
import { oakError } from './help.ts'

/** Writes E57 as the standard lays it out, as far as these tests need it: pages, a section with small packets and an index packet among them, XML. */
interface Field {
  xml: string
  /** bytes of all its points */
  bytes: Uint8Array
}
const quaternion = (turn: number) => `<w type="Float">${Math.cos(turn / 2)}</w><x type="Float"/><y type="Float"/><z type="Float">${Math.sin(turn / 2)}</z>`
const posed = (turn: number, x: number, y: number, z: number) =>
  `<pose type="Structure"><rotation type="Structure">${quaternion(turn)}</rotation><translation type="Structure"><x type="Float">${x}</x><y type="Float">${y}</y><z type="Float">${z}</z></translation></pose>`
const packed = (values: number[], bits: number) => {
  const out = new Uint8Array(Math.ceil((values.length * bits) / 8))
  values.forEach((v, i) => {
    for (let b = 0; b < bits; b++) if (Math.floor(v / 2 ** b) % 2) out[(i * bits + b) >> 3] |= 1 << ((i * bits + b) & 7)
  })
  return out
}
const single = (name: string, v: number[]): Field => ({ xml: `<${name} type="Float" precision="single"/>`, bytes: new Uint8Array(Float32Array.from(v).buffer) })
const double = (name: string, v: number[]): Field => ({ xml: `<${name} type="Float"/>`, bytes: new Uint8Array(Float64Array.from(v).buffer) })
const scaled = (name: string, v: number[], scale: number, offset: number): Field => {
  const raw = v.map((x) => Math.round((x - offset) / scale))
  const [least, most] = [Math.min(...raw), Math.max(...raw)]
  const bits = most > least ? Math.ceil(Math.log2(most - least + 1)) : 0
  const xml = `<${name} type="ScaledInteger" minimum="${least}" maximum="${most}" scale="${scale}" offset="${offset}"/>`
  return { xml, bytes: packed(raw.map((r) => r - least), bits) } // prettier-ignore
}
const whole = (name: string, v: number[], most: number): Field => ({
  xml: `<${name} type="Integer" minimum="0" maximum="${most}"/>`,
  bytes: packed(v, Math.ceil(Math.log2(most + 1))),
})
interface Scan {
  name: string
  count: number
  fields: Field[]
  pose?: string
}
const PAGE = 1024
function e57(scans: Scan[], how: { packet?: number; little?: boolean; xml?: (x: string) => string } = {}): Uint8Array {
  const physical = (logical: number) => Math.floor(logical / (PAGE - 4)) * PAGE + (logical % (PAGE - 4))
  const logical: number[] = Array<number>(48).fill(0)
  const put = (n: number, size: number) => {
    for (let k = 0; k < size; k++) logical.push(Math.floor(n / 256 ** k) % 256)
  }
  const described = scans.map((s) => {
    const section = logical.length
    logical.push(1, ...Array<number>(31).fill(0))
    const sizes = s.fields.map((f) => f.bytes.length)
    const sent = sizes.map(() => 0)
    const data = logical.length
    for (let k = 0; sent.some((n, i) => n < sizes[i]); k++) {
      // an index among them, that readers may pass over
      if (k === 1) logical.push(0, 0, 15, 0, ...Array<number>(12).fill(0))
      const now = sizes.map((n, i) => Math.min(how.packet ?? 60, n - sent[i]))
      const body = 6 + 2 * now.length + now.reduce((a, b) => a + b, 0)
      const length = 4 * Math.ceil(body / 4)
      logical.push(1, 0)
      put(length - 1, 2)
      put(now.length, 2)
      for (const n of now) put(n, 2)
      now.forEach((n, i) => logical.push(...s.fields[i].bytes.subarray(sent[i], (sent[i] += n))))
      for (let i = body; i < length; i++) logical.push(0)
    }
    const head = [...u64(logical.length - section), ...u64(physical(data)), ...u64(0)]
    head.forEach((b, i) => (logical[section + 8 + i] = b))
    return `<vectorChild type="Structure"><name type="String"><![CDATA[${s.name}]]></name>${s.pose ?? ''}<points type="CompressedVector" fileOffset="${physical(section)}" recordCount="${s.count}"><prototype type="Structure">${s.fields.map((f) => f.xml).join('')}</prototype><codecs type="Vector"/></points></vectorChild>`
  })
  const plain = `<?xml version="1.0" encoding="UTF-8"?><e57Root type="Structure" xmlns="http://www.astm.org/COMMIT/E57/2010-e57-v1.0"><formatName type="String">ASTM E57 3D Imaging Data File</formatName><data3D type="Vector">${described.join('')}</data3D></e57Root>`
  const xml = strToU8(how.xml?.(plain) ?? plain)
  const xmlAt = logical.length
  for (const b of xml) logical.push(b)
  while (logical.length % (PAGE - 4)) logical.push(0)
  const pages = logical.length / (PAGE - 4)
  const head = [...strToU8('ASTM-E57'), 1, 0, 0, 0, 0, 0, 0, 0, ...u64(pages * PAGE), ...u64(physical(xmlAt)), ...u64(xml.length), ...u64(PAGE)]
  head.forEach((b, i) => (logical[i] = b))
  const out = new Uint8Array(pages * PAGE)
  const view = new DataView(out.buffer)
  for (let k = 0; k < pages; k++) {
    const part = Uint8Array.from(logical.slice(k * (PAGE - 4), (k + 1) * (PAGE - 4)))
    out.set(part, k * PAGE)
    view.setUint32(k * PAGE + PAGE - 4, crc32c(part), how.little ?? false)
  }
  return out
}
const u64 = (n: number) => Array.from({ length: 8 }, (_, k) => Math.floor(n / 256 ** k) % 256)

const r = seeded(3)
const points = Array.from({ length: 500 }, () => [0.4 * (r.next() - 0.5), 0.3 * (r.next() - 0.5), 0.45 + 0.05 * r.next()])
const of = (k: number) => points.map((p) => p[k])
const names = ['cartesianX', 'cartesianY', 'cartesianZ']
const plainScan: Scan = { name: 'one', count: 500, fields: names.map((n, k) => single(n, of(k))) }
const read = (bytes: Uint8Array) => readE57Scans(bytesSource('a.e57', bytes, 700))
const refused = (bytes: Uint8Array) => oakError(read(bytes))
const furthest = (xyz: ArrayLike<number>, want = points) => want.reduce((m, p, i) => Math.max(m, ...p.map((v, k) => Math.abs(v - xyz[3 * i + k]))), 0)

describe('E57', () => {
  it('its checksum is Castagnoli’s: the check value of RFC 3720', () => expect(crc32c(strToU8('123456789'))).toBe(0xe3069283))

  it.each<[string, Field[], number]>([
    ['floats', plainScan.fields, 1e-7],
    ['doubles', names.map((n, k) => double(n, of(k))), 1e-15],
    ['scaled integers of 19, 19 and 16 bits', names.map((n, k) => scaled(n, of(k), 1e-6, 0.1)), 5.1e-7],
    ['scaled integers of 42 bits', names.map((n, k) => scaled(n, of(k), 1e-13, 0)), 5.1e-14],
    ['scaled integers of 51 bits', names.map((n, k) => scaled(n, of(k), 2 ** -52, 0)), 2 ** -52],
  ])('points as %s come back', async (_, fields, within) => {
    const [scan, ...rest] = await read(e57([{ name: 'a & b', count: 500, fields }]))
    expect([scan.name, scan.posed, scan.xyz.length, rest.length]).toEqual(['a & b', false, 1500, 0])
    expect(furthest(scan.xyz)).toBeLessThan(within)
  })

  it('spherical coordinates, invalid points, a field that never changes, and others that nobody asked for', async () => {
    const [x, y, z] = [0, 1, 2].map(of)
    const flat = x.map((v, i) => Math.hypot(v, y[i]))
    const state = points.map((_, i) => (i % 5 ? 0 : 2))
    const fields = [
      single('intensity', x),
      double('sphericalRange', flat.map((v, i) => Math.hypot(v, z[i]))), // prettier-ignore
      double('sphericalAzimuth', x.map((v, i) => Math.atan2(y[i], v))), // prettier-ignore
      whole('sphericalInvalidState', state, 2),
      { xml: '<rowIndex type="Integer" minimum="7" maximum="7"/>', bytes: new Uint8Array(0) },
      double('sphericalElevation', flat.map((v, i) => Math.atan2(z[i], v))), // prettier-ignore
    ]
    const [scan] = await read(e57([{ name: 'round', count: 500, fields }]))
    expect(scan.xyz.length).toBe(1200)
    expect(furthest(scan.xyz, points.filter((_, i) => i % 5))).toBeLessThan(1e-14) // prettier-ignore
  })

  it('brought in as a scan: all scans as the file places them, with their colours', async () => {
    const red = points.map((_, i) => i % 256)
    const coloured = [...plainScan.fields, whole('colorRed', red, 255), whole('colorGreen', red.map(() => 9), 255), whole('colorBlue', red.map((v) => 4 * v), 1023)] // prettier-ignore
    const files = e57([
      { ...plainScan, fields: coloured },
      { ...plainScan, name: 'two', fields: coloured, pose: posed(Math.PI / 2, 1, 2, 3) },
    ])
    const { data, unit, format, warnings } = await readAny(bytesSource('a.e57', files))
    const p = data as Points
    expect([unit, format, p.xyz.length]).toEqual(['m', 'e57', 3000])
    expect(warnings.join()).toMatch(/2 scans were put together/)
    const turned = multiply(translation(1, 2, 3), fromRotationVector(0, 0, Math.PI / 2))
    expect(furthest(p.xyz.subarray(1500), points.map((q) => transformPoint(turned, q[0], q[1], q[2])))).toBeLessThan(1e-6) // prettier-ignore
    expect([...p.colours!.subarray(3 * 100, 3 * 100 + 3)]).toEqual([100, 9, Math.round((400 * 255) / 1023)])
  })

  it('brought in as frames: one of each scan, with its pose, in millimetres', async () => {
    const file = e57([
      { ...plainScan, pose: posed(0, 0, 0, 0) },
      { ...plainScan, name: 'two', pose: posed(0.1, 0.2, 0, 0.05) },
    ])
    const frames = await readFrames(bytesSource('station.zip', zipSync({ 'station.e57': file })), undefined, quietContext)
    expect(frames.frames.map((f) => f.time)).toEqual([0, 100])
    const [first, second] = frames.frames
    expect(first.at).toEqual(identity())
    const want: Mat4 = multiply(translation(200, 0, 50), fromRotationVector(0, 0, 0.1))
    for (let k = 0; k < 12; k++) expect(second.at?.[k]).toBeCloseTo(want[k], 6)
    expect(furthest(second.points().xyz.map((v) => v / 1000))).toBeLessThan(1e-6)
    expect(frames.own).toBeDefined()
  })

  it('either order of bytes of the checksums, packets of one byte a field, one packet of all', async () => {
    for (const how of [{ little: true }, { packet: 1 }, { packet: 60_000 }]) expect(furthest((await read(e57([plainScan], how)))[0].xyz)).toBeLessThan(1e-7)
  })

  it.each<[string, () => Uint8Array, string, RegExp]>([
    ['another file', () => strToU8('ASTM-E58'.padEnd(2000, ' ')), 'bad-e57', /no E57/],
    ['one that is cut off', () => e57([plainScan]).subarray(0, 5000), 'truncated', /bytes are said/],
    ['a page that is damaged', () => e57([plainScan]).map((b, i) => (i === 3000 ? b ^ 1 : b)), 'bad-e57', /Page 3 of \d+ is damaged/],
    [
      'more points than there are',
      () => e57([plainScan], { xml: (x) => x.replace('recordCount="500"', 'recordCount="9000"') }),
      'truncated',
      /within the points/,
    ],
    ['a number of points that is none', () => e57([plainScan], { xml: (x) => x.replace('"500"', '"-5"') }), 'bad-e57', /-5 points/],
    [
      'fields that do not fit the packets',
      () => e57([plainScan], { xml: (x) => x.replace('<cartesianX type="Float" precision="single"/>', '') }),
      'bad-e57',
      /3 fields of a point, the description 2/,
    ],
    ['points elsewhere', () => e57([plainScan], { xml: (x) => x.replace('fileOffset="48"', 'fileOffset="52"') }), 'bad-e57', /something else/],
    ['no coordinates', () => e57([{ ...plainScan, fields: [single('intensity', of(0))] }]), 'bad-e57', /neither/],
    ['XML that is none', () => e57([plainScan], { xml: (x) => x.replace('</data3D>', '') }), 'bad-e57', /not proper XML/],
    ['no scan', () => e57([]), 'bad-e57', /no point/],
  ])('is refused in words: %s', async (_, file, code, words) => {
    const e = await refused(file())
    expect([e.code, e.message]).toEqual([code, expect.stringMatching(words)])
  })
})
