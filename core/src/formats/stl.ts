import { f32, GrowF32 } from '../base/arrays.ts'
import { OakError } from '../base/errors.ts'
import { triangleNormal, type Mesh } from '../shape/mesh.ts'
import { weld } from '../shape/weld.ts'
import { finish, NO_ORIGIN, unitInComment, type Origin, type Read } from './imported.ts'
import { ByteReader, ascii, cursor, eachLine, parseNumber, truncated, type ByteSource } from './source.ts'

/**
 * STL, binary or ascii. Corners at the very same place become one vertex. Told apart by size, not by the first word:
 * many binary files begin with "solid".
 */
export async function readStl(source: ByteSource, origin: Origin = NO_ORIGIN): Promise<Read> {
  const reader = new ByteReader(source)
  if (source.size === 0) throw new OakError('empty', 'The file is empty.', { remedy: 'Export it again.' })
  await reader.fill(Math.min(source.size, 1024))
  const head = reader.buffer
  const count = head.length >= 84 ? new DataView(head.buffer, head.byteOffset).getUint32(80, true) : -1
  const looksText = /^\s*solid/i.test(ascii(head, 0, 80)) && !head.subarray(0, Math.min(head.length, 1024)).some((c) => c === 0 || c > 126)
  try {
    if (count >= 0 && source.size === 84 + 50 * count) return await readBinary(reader, count, origin)
    if (looksText) return await readAscii(reader, origin)
    if (count < 0) throw truncated('a binary STL has at least 84 bytes', `byte ${source.size}`)
    if (source.size < 84 + 50 * count) {
      throw new OakError('truncated', `The header says ${count} triangles, the file has room for ${Math.floor((source.size - 84) / 50)}.`, {
        where: 'header',
        remedy: 'The file was cut off, or it is no STL. Copy or export it again.',
      })
    }
    const read = await readBinary(reader, count, origin)
    read.warnings.push(`${source.size - 84 - 50 * count} bytes after the last triangle were left out.`)
    return read
  } finally {
    await reader.close()
  }
}

async function readBinary(reader: ByteReader, count: number, origin: Origin): Promise<Read> {
  const unit = unitInComment(ascii(reader.buffer, 0, 80))
  reader.pos = 84
  const corners = f32(9 * count)
  let coloured = 0
  let i = 0
  while (i < count) {
    if (!(await reader.fill(50))) throw truncated(`triangle ${i} of ${count} is missing`, `byte ${reader.offset}`)
    const v = new DataView(reader.buffer.buffer, reader.buffer.byteOffset, reader.buffer.byteLength)
    const run = Math.min(count - i, Math.floor(reader.available / 50))
    for (let r = 0; r < run; r++, i++) {
      const o = reader.pos + 12
      for (let k = 0; k < 9; k++) corners[9 * i + k] = v.getFloat32(o + 4 * k, true) - origin[k % 3]
      if (v.getUint16(o + 36, true) !== 0) coloured++
      reader.pos += 50
    }
  }
  const read = fromCorners(corners)
  if (coloured) read.warnings.push(`${coloured} triangles carry a colour or a mark of their own, which STL does not define; it was left out.`)
  return { ...read, ...(unit ? { unit } : {}) }
}

async function readAscii(reader: ByteReader, origin: Origin): Promise<Read> {
  let title: string | undefined
  const corners = new GrowF32()
  let inFacet = 0
  let facets = 0
  let finished = false
  await eachLine(reader, (b, s, e, n) => {
    let i = s
    while (i < e && b[i] <= 32) i++
    const c = b[i] | 32
    title ??= ascii(b, i, Math.min(e, i + 200))
    if (c === 118 /* v */) {
      const x = parseNumber(b, i + 6, e)
      const y = parseNumber(b, cursor.at, e)
      const z = parseNumber(b, cursor.at, e)
      if (Number.isNaN(x + y + z) && !/nan/i.test(ascii(b, i, e)))
        throw new OakError('bad-number', `“${ascii(b, i, Math.min(e, i + 60))}” is no corner.`, {
          where: `line ${n}`,
          remedy: 'Correct the line or export again.',
        })
      if (inFacet < 3) corners.push3(x - origin[0], y - origin[1], z - origin[2])
      inFacet++
    } else if (c === 102 /* facet */) {
      inFacet = 0
      facets++
      finished = false
    } else if (c === 101 /* end… */) {
      const word = ascii(b, i, e).toLowerCase()
      if (word.startsWith('endfacet') && inFacet !== 3)
        throw new OakError('bad-facet', `A triangle has ${inFacet} corners.`, { where: `line ${n}`, remedy: 'Export the file again.' })
      if (word.startsWith('endfacet') || word.startsWith('endsolid')) finished = true
    }
  })
  if (facets && (!finished || corners.length % 9 !== 0)) throw truncated(`triangle ${facets} is not complete`, `triangle ${facets}`)
  const unit = unitInComment(title ?? '')
  return { ...fromCorners(corners.done()), ...(unit ? { unit } : {}) }
}

function fromCorners(corners: Float32Array): Read {
  const { vertices, index } = weld(corners)
  return finish({ xyz: vertices, triangles: index }, [])
}

/** Binary STL in mm, which its header says. */
export function* writeStl(mesh: Mesh, title = 'Oak Gauge'): Generator<Uint8Array> {
  const { vertices: p, triangles: t } = mesh
  const n = t.length / 3
  const head = new Uint8Array(84)
  head.set(new TextEncoder().encode(`${title.replace(/^solid/i, 'part')}`).subarray(0, 68))
  const said = new TextEncoder().encode(', unit: mm')
  head.set(said, Math.min(68, Math.max(0, head.indexOf(0))))
  new DataView(head.buffer).setUint32(80, n, true)
  yield head
  const BLOCK = 65536
  for (let from = 0; from < n; from += BLOCK) {
    const count = Math.min(BLOCK, n - from)
    const out = new Uint8Array(50 * count)
    const v = new DataView(out.buffer)
    for (let i = 0; i < count; i++) {
      const [a, b, c] = [3 * t[3 * (from + i)], 3 * t[3 * (from + i) + 1], 3 * t[3 * (from + i) + 2]]
      const normal = triangleNormal(p, t, from + i)
      const o = 50 * i
      for (let k = 0; k < 3; k++) {
        v.setFloat32(o + 4 * k, normal[k], true)
        v.setFloat32(o + 12 + 4 * k, p[a + k], true)
        v.setFloat32(o + 24 + 4 * k, p[b + k], true)
        v.setFloat32(o + 36 + 4 * k, p[c + k], true)
      }
    }
    yield out
  }
}
