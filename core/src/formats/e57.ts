import { SaxesParser } from 'saxes'
import { u8 } from '../base/arrays.ts'
import { OakError } from '../base/errors.ts'
import { fromQuaternion, identity, transformPoint, type Mat4 } from '../base/mat4.ts'
import { checkCancelled, quietContext, type RunContext } from '../base/run.ts'
import { makePoints } from '../shape/points.ts'
import { NO_ORIGIN, type Origin, type Read } from './imported.ts'
import { ascii, truncated, type ByteSource } from './source.ts'

/** A scan of an E57 file, in its own coordinates. */
export interface E57Scan {
  name: string
  /** 3N, metres */
  xyz: Float64Array
  /** 3N, 0..255 */
  colours?: Uint8Array
  /** scan to file, metres */
  pose: Mat4
  posed: boolean
}

const SIGNATURE = 'ASTM-E57'
const HEAD = 48
const CRC = 4
/** points that are read at the most: as many as any other file's */
const MOST = 200_000_000
const bad = (message: string, where: string) => new OakError('bad-e57', message, { where, remedy: 'Export the file again, or bring the scans as PLY.' })

export const isE57 = (first: Uint8Array): boolean => ascii(first, 0, 8) === SIGNATURE

/**
 * Scans of an E57 file (ASTM E2807-11: pages with a checksum, XML, bit-packed vectors; written from memory of the standard, no file of another program was at hand).
 * Cartesian or spherical coordinates, floats, integers and scaled integers, colours, poses; points that are said to be invalid are left out. Images and what extensions
 * add are passed over. Throws OakError 'bad-e57', 'truncated', 'cancelled'.
 */
export async function readE57Scans(source: ByteSource, ctx: RunContext = quietContext): Promise<E57Scan[]> {
  const whole = new Uint8Array(source.size)
  let n = 0
  for await (const c of source.chunks()) {
    whole.set(c, n)
    n += c.length
  }
  const view = new DataView(whole.buffer)
  if (whole.length < HEAD || !isE57(whole)) throw bad('This is no E57 file.', source.name)
  const u64 = (v: DataView, at: number) => Number(v.getBigUint64(at, true))
  const [length, xmlAt, xmlLength, page] = [16, 24, 32, 40].map((at) => u64(view, at))
  if (!(page > CRC && page <= 1 << 20)) throw bad(`Its pages are said to have ${page} bytes.`, source.name)
  if (whole.length < length) throw truncated(`${length} bytes are said to be there, and ${whole.length} are`, source.name)
  const bytes = withoutChecks(whole, page, source.name)
  const at = (physical: number) => Math.floor(physical / page) * (page - CRC) + (physical % page)
  const from = at(xmlAt)
  if (!(from + xmlLength <= bytes.length)) throw truncated('within the description of its scans', source.name)
  const root = parseXml(new TextDecoder().decode(bytes.subarray(from, from + xmlLength)), source.name)
  const scans: E57Scan[] = []
  for (const [k, scan] of (child(root, 'data3D')?.children ?? []).entries()) {
    checkCancelled(ctx)
    const name = child(scan, 'name')?.text.trim() || `scan ${k + 1}`
    const points = child(scan, 'points')
    if (!points) continue
    const pose = child(scan, 'pose')
    scans.push({ name, ...pointsOf(bytes, points, at, `${source.name}, ${name}`, ctx), pose: poseOf(pose), posed: pose !== undefined })
  }
  if (!scans.some((s) => s.xyz.length)) throw bad('There is no point in this file.', source.name)
  return scans
}

/** All scans of a file as one cloud, in the file's coordinates. */
export async function readE57(source: ByteSource, origin: Origin = NO_ORIGIN, ctx: RunContext = quietContext): Promise<Read> {
  const scans = await readE57Scans(source, ctx)
  const n = scans.reduce((s, x) => s + x.xyz.length, 0)
  const xyz = new Float32Array(n)
  const colours = scans.every((s) => s.colours) ? u8(n) : undefined
  let at = 0
  for (const { xyz: p, pose, colours: c } of scans) {
    if (c) colours?.set(c, at)
    for (let i = 0; i < p.length; i += 3) {
      const [x, y, z] = transformPoint(pose, p[i], p[i + 1], p[i + 2])
      xyz[at++] = x - origin[0]
      xyz[at++] = y - origin[1]
      xyz[at++] = z - origin[2]
    }
  }
  const [one] = scans
  const warnings =
    scans.length > 1 ? [`${scans.length} scans were put together as the file places them. Brought in as frames they are laid on one another first.`] : []
  const viewpoint = scans.length === 1 && one.posed ? ([3, 7, 11].map((k, a) => one.pose[k] - origin[a]) as [number, number, number]) : undefined
  return { data: makePoints({ xyz, ...(colours ? { colours } : {}), ...(viewpoint ? { viewpoint } : {}) }), unit: 'm', warnings }
}

/** Pages without their checksums. Of whatever order of bytes the first page's are, all the others must be. */
function withoutChecks(whole: Uint8Array, page: number, where: string): Uint8Array {
  const body = page - CRC
  const pages = Math.ceil(whole.length / page)
  const out = new Uint8Array(pages * body)
  const view = new DataView(whole.buffer, whole.byteOffset)
  let little: boolean | undefined
  for (let k = 0; k < pages; k++) {
    const from = k * page
    const part = whole.subarray(from, Math.min(whole.length, from + body))
    out.set(part, k * body)
    if (from + page > whole.length) continue
    const sum = crc32c(part)
    if (k === 0) little = view.getUint32(body, true) === sum ? true : view.getUint32(body, false) === sum ? false : undefined
    else if (little !== undefined && view.getUint32(from + body, little) !== sum)
      throw bad(`Page ${k + 1} of ${pages} is damaged: its checksum does not fit.`, where)
  }
  return out
}

const TABLE = Uint32Array.from({ length: 256 }, (_, n) => {
  for (let k = 0; k < 8; k++) n = n & 1 ? (n >>> 1) ^ 0x82f63b78 : n >>> 1
  return n
})
/** Castagnoli's (RFC 3720) */
export function crc32c(bytes: Uint8Array): number {
  let c = 0xffffffff
  for (let i = 0; i < bytes.length; i++) c = TABLE[(c ^ bytes[i]) & 255] ^ (c >>> 8)
  return (c ^ 0xffffffff) >>> 0
}

interface Node {
  name: string
  attributes: Record<string, string>
  children: Node[]
  text: string
}
const child = (n: Node | undefined, name: string) => n?.children.find((c) => c.name === name)
const number = (n: Node | undefined, or = 0) => (n?.text.trim() ? Number(n.text) : or)

function parseXml(text: string, where: string): Node {
  const top: Node = { name: '', attributes: {}, children: [], text: '' }
  const open = [top]
  const parser = new SaxesParser()
  parser.on('opentag', ({ name, attributes }) => {
    const node: Node = { name, attributes, children: [], text: '' }
    open.at(-1)?.children.push(node)
    open.push(node)
  })
  parser.on('closetag', () => void open.pop())
  const add = (t: string) => {
    const last = open.at(-1)
    if (last) last.text += t
  }
  parser.on('text', add)
  parser.on('cdata', add)
  parser.on('error', (e) => {
    throw bad(`The description of its scans is not proper XML (${e.message}).`, where)
  })
  parser.write(text).close()
  const root = child(top, 'e57Root')
  if (!root) throw bad('The description of its scans is not that of an E57 file.', where)
  return root
}

function poseOf(pose: Node | undefined): Mat4 {
  if (!pose) return identity()
  const [r, t] = [child(pose, 'rotation'), child(pose, 'translation')]
  const q = ['w', 'x', 'y', 'z'].map((k) => number(child(r, k), k === 'w' && !r ? 1 : 0))
  const l = Math.hypot(...q) || 1
  const [x, y, z] = ['x', 'y', 'z'].map((k) => number(child(t, k)))
  return fromQuaternion([q[0] / l, q[1] / l, q[2] / l, q[3] / l], [x, y, z])
}

/** How one field of a point is packed. */
interface Field {
  name: string
  bits: number
  read(bytes: Uint8Array, view: DataView, k: number): number
  least: number
  most: number
}

function fieldOf({ name, attributes: a }: Node): Field {
  const [least, most] = [Number(a['minimum'] ?? -(2 ** 63)), Number(a['maximum'] ?? 2 ** 63 - 1)]
  if (a['type'] === 'Float') {
    const single = a['precision'] === 'single'
    return {
      name,
      bits: single ? 32 : 64,
      read: (_, v, k) => (single ? v.getFloat32(4 * k, true) : v.getFloat64(8 * k, true)),
      least: Number(a['minimum'] ?? 0),
      most: Number(a['maximum'] ?? 1),
    }
  }
  const scaled = a['type'] === 'ScaledInteger'
  const [scale, offset] = scaled ? [Number(a['scale'] ?? 1), Number(a['offset'] ?? 0)] : [1, 0]
  // up to 2^53 exactly, more only where nobody reads it
  const bits = most > least ? Math.ceil(Math.log2(most - least + 1)) : 0
  return { name, bits, read: (b, _, k) => (least + unpacked(b, k * bits, bits)) * scale + offset, least: least * scale + offset, most: most * scale + offset }
}

/** A whole number of so many bits from a bit on, the lowest first. */
function unpacked(b: Uint8Array, from: number, bits: number): number {
  // bits of a large file are more than 2^32: no shifts
  let at = Math.floor(from / 8)
  const skip = from % 8
  let v = (b[at++] >>> skip) % 2 ** bits
  // of the last byte no more than is wanted: beyond 2^53 a sum would lose its lowest bits
  for (let have = 8 - skip; have < bits; have += 8) v += (b[at++] % 2 ** (bits - have)) * 2 ** have
  return v
}

function pointsOf(bytes: Uint8Array, points: Node, at: (physical: number) => number, where: string, ctx: RunContext): Pick<E57Scan, 'xyz' | 'colours'> {
  const count = Number(points.attributes['recordCount'])
  if (!(count >= 0 && count <= MOST)) throw bad(`It is said to have ${points.attributes['recordCount']} points.`, where)
  const fields = (child(points, 'prototype')?.children ?? []).map(fieldOf)
  const streams = streamsOf(bytes, at(Number(points.attributes['fileOffset'])), at, fields, count, where, ctx)
  const got = (name: string) => {
    const i = fields.findIndex((f) => f.name === name)
    if (i < 0) return undefined
    const b = streams[i]
    const view = new DataView(b.buffer, b.byteOffset, b.byteLength)
    return { ...fields[i], of: (k: number) => fields[i].read(b, view, k) }
  }
  const [x, y, z] = ['cartesianX', 'cartesianY', 'cartesianZ'].map(got)
  const [range, azimuth, elevation] = ['sphericalRange', 'sphericalAzimuth', 'sphericalElevation'].map(got)
  const straight = x && y && z
  const round = range && azimuth && elevation
  if (!straight && !round) throw bad('Its points have neither Cartesian nor spherical coordinates.', where)
  const invalid = got(straight ? 'cartesianInvalidState' : 'sphericalInvalidState')
  const colour = ['colorRed', 'colorGreen', 'colorBlue'].map(got)
  const xyz = new Float64Array(3 * count)
  const colours = colour.every((c) => c) ? u8(3 * count) : undefined
  let n = 0
  for (let k = 0; k < count; k++) {
    if (invalid && invalid.of(k) !== 0) continue
    if (straight) {
      xyz[n] = x.of(k)
      xyz[n + 1] = y.of(k)
      xyz[n + 2] = z.of(k)
    } else if (round) {
      const [r, a, e] = [range.of(k), azimuth.of(k), elevation.of(k)]
      xyz[n] = r * Math.cos(e) * Math.cos(a)
      xyz[n + 1] = r * Math.cos(e) * Math.sin(a)
      xyz[n + 2] = r * Math.sin(e)
    }
    if (!Number.isFinite(xyz[n] + xyz[n + 1] + xyz[n + 2])) continue
    if (colours) colour.forEach((c, i) => (colours[n + i] = c ? Math.round((255 * (c.of(k) - c.least)) / (c.most - c.least || 1)) : 0))
    n += 3
  }
  return { xyz: xyz.slice(0, n), ...(colours ? { colours: colours.slice(0, n) } : {}) }
}

const INDEX = 0
const DATA = 1
const EMPTY = 2

/** What the packets of a section hold of each field, one after the other. */
function streamsOf(
  bytes: Uint8Array,
  section: number,
  at: (physical: number) => number,
  fields: Field[],
  count: number,
  where: string,
  ctx: RunContext,
): Uint8Array[] {
  const view = new DataView(bytes.buffer, bytes.byteOffset, bytes.byteLength)
  const short = () => truncated('within the points of a scan', where)
  if (!(section + 32 <= bytes.length)) throw short()
  if (bytes[section] !== 1) throw bad('Where its points should be, there is something else.', where)
  const end = Math.min(bytes.length, section + Number(view.getBigUint64(section + 8, true)))
  const out = fields.map((f) => new Uint8Array(Math.ceil((count * f.bits) / 8)))
  const filled = fields.map(() => 0)
  const missing = () => filled.some((f, i) => f < out[i].length)
  for (let p = at(Number(view.getBigUint64(section + 16, true))); missing();) {
    if (!(p + 4 <= end)) throw short()
    const length = view.getUint16(p + 2, true) + 1
    if (bytes[p] === DATA) {
      checkCancelled(ctx)
      const streams = view.getUint16(p + 4, true)
      if (streams !== fields.length) throw bad(`A packet has ${streams} fields of a point, the description ${fields.length}.`, where)
      let from = p + 6 + 2 * streams
      for (let i = 0; i < streams; i++) {
        const size = view.getUint16(p + 6 + 2 * i, true)
        if (from + size > p + length || from + size > end) throw bad('A packet is not as long as it says.', where)
        // the last one is filled up
        out[i].set(bytes.subarray(from, from + Math.min(size, out[i].length - filled[i])), filled[i])
        filled[i] = Math.min(out[i].length, filled[i] + size)
        from += size
      }
    } else if (bytes[p] !== INDEX && bytes[p] !== EMPTY) throw bad('Among its points there is something that is none.', where)
    p += length
  }
  return out
}
