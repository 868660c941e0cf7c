import { f32, GrowU32, GrowU8, u8 } from '../base/arrays.ts'
import { OakError } from '../base/errors.ts'
import type { Mesh } from '../shape/mesh.ts'
import type { Points } from '../shape/points.ts'
import { finish, NO_ORIGIN, unitInComment, type Origin, type Read, type Unit } from './imported.ts'
import { triangulatePolygon } from './polygon.ts'
import { ByteReader, ascii, cursor, eachLine, parseNumber, truncated, type ByteSource } from './source.ts'

type Scalar = 'i1' | 'u1' | 'i2' | 'u2' | 'i4' | 'u4' | 'f4' | 'f8'
const TYPES: Record<string, Scalar> = {
  char: 'i1',
  int8: 'i1',
  uchar: 'u1',
  uint8: 'u1',
  short: 'i2',
  int16: 'i2',
  ushort: 'u2',
  uint16: 'u2',
  int: 'i4',
  int32: 'i4',
  uint: 'u4',
  uint32: 'u4',
  float: 'f4',
  float32: 'f4',
  double: 'f8',
  float64: 'f8',
}
const SIZE: Record<Scalar, number> = { i1: 1, u1: 1, i2: 2, u2: 2, i4: 4, u4: 4, f4: 4, f8: 8 }

interface Property {
  name: string
  type: Scalar
  list?: Scalar
}
interface Element {
  name: string
  count: number
  properties: Property[]
}

const bad = (message: string, where: string) => new OakError('bad-header', message, { where, remedy: 'Export the file again as PLY.' })

/**
 * PLY (Turk 1994), ascii and binary of both byte orders. Comments "viewpoint x y z" and "unit mm" say where the scanner stood and what a number means; the
 * property not_measured of a face is read back as it was written.
 */
export async function readPly(source: ByteSource, origin: Origin = NO_ORIGIN): Promise<Read> {
  const reader = new ByteReader(source)
  const elements: Element[] = []
  let format = ''
  let viewpoint: [number, number, number] | undefined
  let unit: Unit | undefined
  let done = false
  const headerLines = await eachLine(reader, (b, s, e, n) => {
    if (n > 10_000) throw bad('The header does not end.', `line ${n}`)
    const words = ascii(b, s, e).trim().split(/\s+/)
    if (n === 1) {
      if (words[0] !== 'ply') throw bad('A PLY file begins with “ply”, this one does not.', 'line 1')
    } else if (words[0] === 'format') format = words[1] ?? ''
    else if (words[0] === 'comment' && words[1] === 'viewpoint') {
      const v = words.slice(2, 5).map(Number)
      if (v.length === 3 && v.every(Number.isFinite)) viewpoint = [v[0] - origin[0], v[1] - origin[1], v[2] - origin[2]]
    } else if (words[0] === 'comment') unit ??= unitInComment(words.slice(1).join(' '))
    else if (words[0] === 'element') {
      const count = Number(words[2])
      if (!Number.isSafeInteger(count) || count < 0) throw bad(`“${words[2] ?? ''}” is no number of elements.`, `line ${n}`)
      elements.push({ name: words[1] ?? '', count, properties: [] })
    } else if (words[0] === 'property') {
      const list = words[1] === 'list'
      const type = TYPES[words[list ? 3 : 1] ?? '']
      const listType = list ? TYPES[words[2] ?? ''] : undefined
      const element = elements.at(-1)
      if (!type || (list && !listType) || !element) throw bad(`The property “${words.slice(1).join(' ')}” is not understood.`, `line ${n}`)
      element.properties.push({ name: words[list ? 4 : 2] ?? '', type, ...(listType ? { list: listType } : {}) })
    } else if (words[0] === 'end_header') {
      done = true
      return true
    }
    return undefined
  })
  if (!done) throw source.size === 0 ? new OakError('empty', 'The file is empty.', { remedy: 'Export it again.' }) : bad('The header has no end.', 'header')
  if (!['ascii', 'binary_little_endian', 'binary_big_endian'].includes(format)) throw bad(`The format “${format}” is unknown.`, 'header')
  const empty = elements.find((e) => e.count > 0 && e.properties.length === 0)
  // nothing of them is in the file, and their number may be anything
  if (empty) throw bad(`The header promises ${empty.count} of “${empty.name}” without any property.`, 'header')
  const text = format === 'ascii'
  // a header that promises more than the file can hold is refused before anything is allocated
  let least = 0
  for (const e of elements) least += e.count * e.properties.reduce((s, p) => s + (text ? 2 : p.list ? SIZE[p.list] : SIZE[p.type]), 0)
  if (least > source.size - reader.offset + (text ? 2 : 0))
    throw new OakError('truncated', `The header promises ${elements.map((e) => `${e.count} ${e.name}`).join(', ')}, more than ${source.size} bytes can hold.`, {
      where: 'header',
      remedy: 'The file was cut off or its header is wrong. Export it again.',
    })
  const out = collector(elements, source, origin)
  try {
    if (text) await readAscii(reader, elements, out, headerLines)
    else await readBinary(reader, elements, out, format === 'binary_little_endian')
  } finally {
    await reader.close()
  }
  const warnings: string[] = []
  for (const e of elements)
    if (e.name !== 'vertex' && e.count > 0 && e.properties.some((p) => /^(red|diffuse_red|green|blue)$/.test(p.name)))
      warnings.push(`Colours of each ${e.name} are in the file; only colours of vertices are kept.`)
  return { ...finish({ ...out.result(), viewpoint }, warnings), ...(unit ? { unit } : {}) }
}

/** Takes elements one by one; a polygon's corners come in `list`. */
function collector(elements: Element[], source: ByteSource, origin: Origin) {
  const vertex = elements.find((e) => e.name === 'vertex')
  if (!vertex) throw bad('The file has no vertices.', 'header')
  const n = vertex.count
  const column = (...names: string[]) => vertex.properties.findIndex((p) => names.includes(p.name) && !p.list)
  const c = [column('x'), column('y'), column('z')]
  if (c.some((i) => i < 0)) throw bad('The vertices have no x, y and z.', 'header')
  const nc = [column('nx'), column('ny'), column('nz')]
  const cc = [column('red', 'diffuse_red', 'r'), column('green', 'diffuse_green', 'g'), column('blue', 'diffuse_blue', 'b')]
  const xyz = f32(3 * n)
  const normals = nc.every((i) => i >= 0) ? f32(3 * n) : undefined
  const colours = cc.every((i) => i >= 0) ? u8(3 * n) : undefined
  const colourScale = colours && vertex.properties[cc[0]].type.startsWith('f') ? 255 : 1
  const triangles = new GrowU32()
  const face = elements.find((e) => e.name === 'face')
  const flagged = face?.properties.some((p) => p.name === NOT_MEASURED && !p.list)
  const unmeasured = new GrowU8()
  const corners: number[] = []
  return {
    vertex(i: number, values: Float64Array) {
      for (let k = 0; k < 3; k++) {
        xyz[3 * i + k] = values[c[k]] - origin[k]
        if (normals) normals[3 * i + k] = values[nc[k]]
        if (colours) colours[3 * i + k] = Math.max(0, Math.min(255, Math.round(values[cc[k]] * colourScale)))
      }
    },
    /** invented: whether the face was filled, not measured */
    face(i: number, list: number[], invented: number) {
      for (const v of list)
        if (!(v >= 0 && v < n) || !Number.isInteger(v))
          throw new OakError('bad-index', `Face ${i} names vertex ${v}, but there are ${n}.`, {
            where: `face ${i} of ${source.name}`,
            remedy: 'Export the mesh again.',
          })
      if (list.length === 3) {
        triangles.push(list[0])
        triangles.push(list[1])
        triangles.push(list[2])
      } else if (list.length > 3) {
        corners.length = 0
        for (const v of list) corners.push(xyz[3 * v], xyz[3 * v + 1], xyz[3 * v + 2])
        for (const k of triangulatePolygon(corners)) triangles.push(list[k])
      }
      if (flagged) while (3 * unmeasured.length < triangles.length) unmeasured.push(invented ? 1 : 0)
    },
    result: () => ({
      xyz,
      normals,
      colours,
      triangles: triangles.length ? triangles.done() : undefined,
      unmeasured: flagged && triangles.length ? unmeasured.done() : undefined,
    }),
  }
}
type Collector = ReturnType<typeof collector>

/** Property of a face: 1 where the surface was filled in, not measured. */
const NOT_MEASURED = 'not_measured'
/** Its place among the properties of an element, -1 for none. */
const flagOf = (e: Element) => (e.name === 'face' ? e.properties.findIndex((p) => p.name === NOT_MEASURED && !p.list) : -1)

const isCorners = (p: Property) => p.list !== undefined && (p.name === 'vertex_indices' || p.name === 'vertex_index')

async function readAscii(reader: ByteReader, elements: Element[], out: Collector, headerLines: number): Promise<void> {
  let which = 0
  let index = 0
  const values = new Float64Array(Math.max(...elements.map((e) => e.properties.length), 1))
  const skipEmpty = () => {
    while (which < elements.length && elements[which].count === index) {
      which++
      index = 0
    }
  }
  skipEmpty()
  await eachLine(
    reader,
    (b, s, e, n) => {
      if (which >= elements.length) return true
      let k = s
      while (k < e && b[k] <= 32) k++
      if (k === e) return undefined
      const element = elements[which]
      let list: number[] | undefined
      cursor.at = s
      element.properties.forEach((p, column) => {
        const v = parseNumber(b, cursor.at, e)
        if (Number.isNaN(v) && ascii(b, s, e).toLowerCase().indexOf('nan') < 0)
          throw new OakError('bad-number', `“${ascii(b, s, Math.min(e, s + 60))}” does not give a number for ${p.name}.`, {
            where: `line ${n}`,
            remedy: 'Correct or remove the line, or export again.',
          })
        if (!p.list) values[column] = v
        else {
          const items: number[] = []
          for (let j = 0; j < v; j++) {
            const item = parseNumber(b, cursor.at, e)
            if (Number.isNaN(item)) throw truncated(`a list of ${v} numbers has only ${j}`, `line ${n}`)
            items.push(item)
          }
          if (isCorners(p)) list = items
        }
      })
      if (element.name === 'vertex') out.vertex(index, values)
      else if (element.name === 'face' && list) out.face(index, list, values[flagOf(element)] ?? 0)
      index++
      skipEmpty()
      return which >= elements.length
    },
    headerLines,
  )
  if (which < elements.length) throw truncated(`${elements[which].name} ${index} of ${elements[which].count} is missing`, `${elements[which].name} ${index}`)
}

async function readBinary(reader: ByteReader, elements: Element[], out: Collector, little: boolean): Promise<void> {
  const list: number[] = []
  for (const element of elements) {
    const fixed = element.properties.every((p) => !p.list)
    const least = element.properties.reduce((s, p) => s + (p.list ? SIZE[p.list] : SIZE[p.type]), 0)
    const values = new Float64Array(element.properties.length)
    let i = 0
    while (i < element.count) {
      if (!(await reader.fill(least))) throw truncated(`${element.name} ${i} of ${element.count} is missing`, `byte ${reader.offset}`)
      const view = new DataView(reader.buffer.buffer, reader.buffer.byteOffset, reader.buffer.byteLength)
      if (fixed) {
        // as many whole records as are here
        const run = Math.min(element.count - i, Math.floor(reader.available / least))
        for (let r = 0; r < run; r++) {
          let o = reader.pos
          for (let k = 0; k < values.length; k++) {
            const t = element.properties[k].type
            values[k] = scalar(view, o, t, little)
            o += SIZE[t]
          }
          reader.pos = o
          if (element.name === 'vertex') out.vertex(i, values)
          i++
        }
        continue
      }
      // lists: read as long as whole records are here
      let corners = false
      let invented = 0
      let o = reader.pos
      let need = 0
      list.length = 0
      for (const p of element.properties) {
        if (!p.list) {
          if (p.name === NOT_MEASURED && o + SIZE[p.type] <= reader.buffer.length) invented = scalar(view, o, p.type, little)
          o += SIZE[p.type]
          continue
        }
        if (o + SIZE[p.list] > reader.buffer.length) {
          need = o + SIZE[p.list] - reader.pos
          break
        }
        const n = scalar(view, o, p.list, little)
        if (!(n >= 0) || n > reader.source.size)
          throw new OakError('bad-list', `A list of ${n} numbers cannot be.`, {
            where: `byte ${reader.offset}`,
            remedy: 'The file is damaged. Export it again.',
          })
        o += SIZE[p.list]
        if (o + n * SIZE[p.type] > reader.buffer.length) {
          need = o + n * SIZE[p.type] - reader.pos
          break
        }
        if (isCorners(p)) {
          corners = true
          for (let k = 0; k < n; k++) list.push(scalar(view, o + k * SIZE[p.type], p.type, little))
        }
        o += n * SIZE[p.type]
      }
      if (o > reader.buffer.length) need = o - reader.pos
      if (need > 0) {
        if (!(await reader.fill(need))) throw truncated(`${element.name} ${i} of ${element.count} is missing`, `byte ${reader.offset}`)
        continue
      }
      reader.pos = o
      if (element.name === 'face' && corners) out.face(i, list, invented)
      i++
    }
  }
}

function scalar(v: DataView, o: number, t: Scalar, little: boolean): number {
  switch (t) {
    case 'f4':
      return v.getFloat32(o, little)
    case 'f8':
      return v.getFloat64(o, little)
    case 'u1':
      return v.getUint8(o)
    case 'i1':
      return v.getInt8(o)
    case 'u2':
      return v.getUint16(o, little)
    case 'i2':
      return v.getInt16(o, little)
    case 'u4':
      return v.getUint32(o, little)
    case 'i4':
      return v.getInt32(o, little)
  }
}

/** Binary little-endian PLY. Points keep normals, colours and viewpoint; of a mesh the invented triangles are flagged. */
export function* writePly(data: Points | Mesh, comment = ''): Generator<Uint8Array> {
  const mesh = data.kind === 'mesh' ? data : undefined
  const xyz = data.kind === 'mesh' ? data.vertices : data.xyz
  const normals = data.kind === 'points' ? data.normals : undefined
  const colours = data.colours
  const n = xyz.length / 3
  const lines = ['ply', 'format binary_little_endian 1.0', 'comment unit mm']
  if (comment) lines.push(`comment ${comment.replace(/[\r\n]+/g, ' ')}`)
  if (data.kind === 'points' && data.viewpoint) lines.push(`comment viewpoint ${data.viewpoint.join(' ')}`)
  lines.push(`element vertex ${n}`, 'property float x', 'property float y', 'property float z')
  if (normals) lines.push('property float nx', 'property float ny', 'property float nz')
  if (colours) lines.push('property uchar red', 'property uchar green', 'property uchar blue')
  if (mesh) {
    lines.push(`element face ${mesh.triangles.length / 3}`, 'property list uchar uint vertex_indices')
    if (mesh.unmeasured) lines.push(`property uchar ${NOT_MEASURED}`)
  }
  yield new TextEncoder().encode(lines.join('\n') + '\nend_header\n')
  const stride = 12 + (normals ? 12 : 0) + (colours ? 3 : 0)
  const BLOCK = 65536
  for (let from = 0; from < n; from += BLOCK) {
    const count = Math.min(BLOCK, n - from)
    const out = new Uint8Array(count * stride)
    const v = new DataView(out.buffer)
    for (let i = 0; i < count; i++) {
      const s = 3 * (from + i)
      let o = i * stride
      for (let k = 0; k < 3; k++, o += 4) v.setFloat32(o, xyz[s + k], true)
      if (normals) for (let k = 0; k < 3; k++, o += 4) v.setFloat32(o, normals[s + k], true)
      if (colours) for (let k = 0; k < 3; k++) out[o++] = colours[s + k]
    }
    yield out
  }
  if (!mesh) return
  const t = mesh.triangles
  const size = mesh.unmeasured ? 14 : 13
  for (let from = 0; from < t.length / 3; from += BLOCK) {
    const count = Math.min(BLOCK, t.length / 3 - from)
    const out = new Uint8Array(count * size)
    const v = new DataView(out.buffer)
    for (let i = 0; i < count; i++) {
      const o = i * size
      out[o] = 3
      for (let k = 0; k < 3; k++) v.setUint32(o + 1 + 4 * k, t[3 * (from + i) + k], true)
      if (mesh.unmeasured) out[o + 13] = mesh.unmeasured[from + i]
    }
    yield out
  }
}
