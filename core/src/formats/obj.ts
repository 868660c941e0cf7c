import { GrowF32, GrowU32, u8 } from '../base/arrays.ts'
import { OakError } from '../base/errors.ts'
import type { Mesh } from '../shape/mesh.ts'
import { finish, type Read } from './imported.ts'
import { triangulatePolygon } from './polygon.ts'
import { ByteReader, ascii, eachLine, type ByteSource } from './source.ts'

/** Wavefront OBJ: vertices (with colours), faces of any corner count, relative indices, continued lines. Materials and textures are not needed here. */
export async function readObj(source: ByteSource): Promise<Read> {
  if (source.size === 0) throw new OakError('empty', 'The file is empty.', { remedy: 'Export it again.' })
  const reader = new ByteReader(source)
  const xyz = new GrowF32()
  const colours: number[] = []
  const triangles = new GrowU32()
  let carried = ''
  const one = (text: string, n: number): void => {
    const words = text.trim().split(/\s+/)
    if (words[0] === 'v') {
      const v = words.slice(1).map(Number)
      if (v.length < 3 || v.some((x, i) => Number.isNaN(x) && !/^[-+]?nan$/i.test(words[i + 1])))
        throw new OakError('bad-number', `“${text.slice(0, 60)}” is no vertex.`, { where: `line ${n}`, remedy: 'Correct the line or export again.' })
      xyz.push3(v[0], v[1], v[2])
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
  try {
    await eachLine(reader, (b, s, e, n) => {
      let i = s
      while (i < e && b[i] <= 32) i++
      if (!carried && (i === e || (b[i] !== 118 && b[i] !== 102))) return // only v… and f… matter
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
  return finish(
    {
      xyz: xyz.done(),
      colours: n > 0 && colours.length === 3 * n ? u8(3 * n).map((_, i) => Math.max(0, Math.min(255, Math.round(colours[i] * scale)))) : undefined,
      triangles: triangles.length ? triangles.done() : undefined,
    },
    [],
  )
}

export function* writeObj(mesh: Mesh, title = 'Oak Gauge'): Generator<Uint8Array> {
  const encoder = new TextEncoder()
  yield encoder.encode(`# ${title}\n# unit: mm\n`)
  const { vertices: p, triangles: t } = mesh
  const BLOCK = 32768
  for (let from = 0; from < p.length / 3; from += BLOCK) {
    let out = ''
    for (let i = from; i < Math.min(p.length / 3, from + BLOCK); i++) out += `v ${num(p[3 * i])} ${num(p[3 * i + 1])} ${num(p[3 * i + 2])}\n`
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
