import { GrowF32, GrowU32, u8 } from '../base/arrays.ts'
import { OakError } from '../base/errors.ts'
import type { Mesh } from '../shape/mesh.ts'
import { finish, NO_ORIGIN, unitInComment, type Origin, type Read, type Unit } from './imported.ts'
import { triangulatePolygon } from './polygon.ts'
import { ByteReader, ascii, cursor, eachLine, parseNumber, type ByteSource } from './source.ts'

/** Wavefront OBJ: vertices (with colours), faces of any corner count, relative indices, continued lines. Materials and textures are told to be lost. */
export async function readObj(source: ByteSource, origin: Origin = NO_ORIGIN): Promise<Read> {
  if (source.size === 0) throw new OakError('empty', 'The file is empty.', { remedy: 'Export it again.' })
  const reader = new ByteReader(source)
  const xyz = new GrowF32()
  const colours: number[] = []
  const triangles = new GrowU32()
  let carried = ''
  let unit: Unit | undefined
  let textured = false
  const one = (text: string, n: number): void => {
    const words = text.trim().split(/\s+/)
    if (words[0] === 'v') {
      const v = words.slice(1).map(Number)
      if (v.length < 3 || v.some((x, i) => Number.isNaN(x) && !/^[-+]?nan$/i.test(words[i + 1])))
        throw new OakError('bad-number', `“${text.slice(0, 60)}” is no vertex.`, { where: `line ${n}`, remedy: 'Correct the line or export again.' })
      xyz.push3(v[0] - origin[0], v[1] - origin[1], v[2] - origin[2])
      if (v.length >= 6) colours.push(v[3], v[4], v[5])
    } else if (words[0] === 'f') {
      const count = xyz.length / 3
      const corner = words.slice(1).map((w) => {
        const i = parseInt(w, 10)
        const v = i < 0 ? count + i : i - 1
        if (!Number.isInteger(v) || v < 0 || v >= count)
          throw new OakError('bad-index', `The face names vertex “${w}”, but ${count} vertices are given so far.`, {
            where: `line ${n}`,
            remedy: 'Export the mesh again.',
          })
        return v
      })
      if (corner.length < 3) return
      const a = xyz.reserve(0)
      const order = corner.length === 3 ? [0, 1, 2] : triangulatePolygon(corner.flatMap((v) => [a[3 * v], a[3 * v + 1], a[3 * v + 2]]))
      for (const k of order) triangles.push(corner[k])
    }
  }
  /** The usual lines, straight from their bytes; false for anything else, which is then looked at with care. Ten times as fast. */
  const corner = new Int32Array(3)
  const plain = (b: Uint8Array, i: number, e: number): boolean => {
    if (b[i + 1] !== 32) return false
    if (b[i] === 118 /* v */) {
      const x = parseNumber(b, i + 2, e)
      const y = parseNumber(b, cursor.at, e)
      const z = parseNumber(b, cursor.at, e)
      if (Number.isNaN(x + y + z)) return false
      let end = cursor.at
      while (end < e && b[end] <= 32) end++
      if (end < e) {
        const red = parseNumber(b, end, e)
        const green = parseNumber(b, cursor.at, e)
        const blue = parseNumber(b, cursor.at, e)
        for (end = cursor.at; end < e; end++) if (b[end] > 32) return false
        if (Number.isNaN(red + green + blue)) return false
        colours.push(red, green, blue)
      }
      xyz.push3(x - origin[0], y - origin[1], z - origin[2])
      return true
    }
    // f a b c, with or without /texture/normal, counted from the start
    const count = xyz.length / 3
    let at = i + 2
    let corners = 0
    while (at < e) {
      if (b[at] === 32) {
        at++
        continue
      }
      let v = 0
      const from = at
      while (at < e && b[at] >= 48 && b[at] <= 57) v = 10 * v + b[at++] - 48
      if (at === from || v < 1 || v > count || corners === 3) return false
      while (at < e && b[at] > 32) {
        // a slash or a digit behind one
        if (b[at] < 47 || b[at] > 57) return false
        at++
      }
      corner[corners++] = v - 1
    }
    if (corners !== 3) return false
    for (let k = 0; k < 3; k++) triangles.push(corner[k])
    return true
  }
  try {
    await eachLine(reader, (b, s, e, n) => {
      let i = s
      while (i < e && b[i] <= 32) i++
      if (!carried && (i === e || (b[i] !== 118 && b[i] !== 102))) {
        // of the rest only what says the unit or that something is lost
        if (i < e && b[i] === 35 /* # */ && n < 100) unit ??= unitInComment(ascii(b, i, Math.min(e, i + 200)))
        else if (i < e && (b[i] === 109 || b[i] === 117) && /^(mtllib|usemtl)\s/.test(ascii(b, i, Math.min(e, i + 8)))) textured = true
        return
      }
      if (!carried && b[e - 1] !== 92 && plain(b, i, e)) return
      const text = ascii(b, i, e)
      if (text.endsWith('\\')) {
        carried += text.slice(0, -1) + ' '
        return
      }
      one(carried + text, n)
      carried = ''
    })
    if (carried) one(carried, 0)
  } finally {
    await reader.close()
  }
  const n = xyz.length / 3
  const scale = colours.some((c) => c > 1) ? 1 : 255
  const warnings = textured ? ['Materials and textures of the file are not read: colour that is in them is lost.'] : []
  const read = finish(
    {
      xyz: xyz.done(),
      colours: n > 0 && colours.length === 3 * n ? u8(3 * n).map((_, i) => Math.max(0, Math.min(255, Math.round(colours[i] * scale)))) : undefined,
      triangles: triangles.length ? triangles.done() : undefined,
    },
    warnings,
  )
  return { ...read, ...(unit ? { unit } : {}) }
}

export function* writeObj(mesh: Mesh, title = 'Oak Gauge'): Generator<Uint8Array> {
  const encoder = new TextEncoder()
  yield encoder.encode(`# ${title}\n# unit: mm\n`)
  const { vertices: p, triangles: t, colours: c } = mesh
  const BLOCK = 32768
  for (let from = 0; from < p.length / 3; from += BLOCK) {
    let out = ''
    for (let i = from; i < Math.min(p.length / 3, from + BLOCK); i++) {
      // colours behind the place, 0 to 1, as most programs that know any read them
      const colour = c ? ` ${[0, 1, 2].map((k) => (c[3 * i + k] / 255).toFixed(4)).join(' ')}` : ''
      out += `v ${num(p[3 * i])} ${num(p[3 * i + 1])} ${num(p[3 * i + 2])}${colour}\n`
    }
    yield encoder.encode(out)
  }
  for (let from = 0; from < t.length / 3; from += BLOCK) {
    let out = ''
    for (let i = from; i < Math.min(t.length / 3, from + BLOCK); i++) out += `f ${t[3 * i] + 1} ${t[3 * i + 1] + 1} ${t[3 * i + 2] + 1}\n`
    yield encoder.encode(out)
  }
}

/** A single-precision number as the shortest text that reads back the same to 1 nm at part size. */
export const num = (v: number) => String(Number(v.toPrecision(9)))
