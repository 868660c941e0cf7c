import { strToU8, Unzip, UnzipInflate, zipSync } from 'fflate'
import { SaxesParser } from 'saxes'
import { f32, GrowF64, GrowU32, u32 } from '../base/arrays.ts'
import { OakError } from '../base/errors.ts'
import type { Mesh } from '../shape/mesh.ts'
import { finish, NO_ORIGIN, type Origin, type Read, type Unit } from './imported.ts'
import { num } from './obj.ts'
import type { ByteSource } from './source.ts'

const UNITS: Record<string, Unit> = { micron: 'um', millimeter: 'mm', centimeter: 'cm', meter: 'm', inch: 'in', foot: 'ft' }
const bad = (message: string, where: string) => new OakError('bad-3mf', message, { where, remedy: 'Export the file again.' })

interface Thing {
  xyz: GrowF64
  triangles: GrowU32
  parts: { id: string; transform: number[] | undefined }[]
}

/** Objects placed by one file; real assemblies have thousands. */
const MOST_PLACED = 100_000
/** Unpacked bytes allowed: real models shrink by 5 to 20, a bomb by 1000. */
const allowed = (packed: number) => 64 * 1024 * 1024 + 60 * packed

/**
 * 3MF core specification 1.x: meshes, components, build items with their transforms; streamed, so that neither the
 * archive nor the XML is ever whole in memory. Throws OakError 'zip-bomb' when it unpacks to more than any real model.
 */
export async function read3mf(source: ByteSource, origin: Origin = NO_ORIGIN): Promise<Read> {
  if (source.size === 0) throw new OakError('empty', 'The file is empty.', { remedy: 'Export it again.' })
  const model = modelReader(allowed(source.size), origin)
  let problem: unknown
  let unpacked = 0
  let found = false
  let ended = false
  const unzip = new Unzip((file) => {
    if (!/\.model$/i.test(file.name)) return
    found = true
    const decoder = new TextDecoder()
    file.ondata = (error, data, final) => {
      if (problem) return
      if (error) {
        problem = bad('The archive is damaged.', file.name)
        return
      }
      unpacked += data.length
      if (unpacked > allowed(source.size)) {
        problem = new OakError('zip-bomb', `The archive unpacks to more than ${Math.round(allowed(source.size) / 1e6)} MB.`, {
          where: file.name,
          remedy: 'This is no real model. Ask for the file in another format.',
        })
        file.terminate()
        return
      }
      try {
        model.write(decoder.decode(data, { stream: !final }))
        if (final) {
          model.close()
          ended = true
        }
      } catch (e) {
        problem = e instanceof OakError ? e : bad(`The model is not proper XML: ${(e as Error).message}`, file.name)
        file.terminate()
      }
    }
    file.start()
  })
  unzip.register(UnzipInflate)
  for await (const chunk of source.chunks()) {
    // small pieces: one input chunk can unpack to a thousand times its size
    for (let i = 0; i < chunk.length && !problem; i += 65536) unzip.push(chunk.subarray(i, i + 65536))
    if (problem) break
  }
  if (problem) throw problem as Error
  if (!found) throw bad('This is no 3MF file: no model was found in the archive.', 'archive')
  if (!ended)
    throw new OakError('truncated', 'The file ends too early: the model is not complete.', { where: 'archive', remedy: 'Copy or export the file again.' })
  return model.result()
}

/** most: bytes that its build may come to. */
function modelReader(most: number, origin: Origin) {
  const things = new Map<string, Thing>()
  const build: { id: string; transform: number[] | undefined }[] = []
  let unit: Unit = 'mm'
  let coloured = false
  let current: Thing | undefined
  const parser = new SaxesParser()
  const matrix = (text: string | undefined) => {
    if (!text) return undefined
    const m = text.trim().split(/\s+/).map(Number)
    if (m.length !== 12 || m.some((v) => !Number.isFinite(v))) throw bad(`“${text}” is no transform.`, 'model')
    return m
  }
  parser.on('doctype', () => {
    throw bad('The model declares a document type, which 3MF does not allow.', 'model')
  })
  parser.on('error', (e) => {
    throw e
  })
  parser.on('opentag', (tag) => {
    const a = tag.attributes
    const name = tag.name.replace(/^.*:/, '')
    if (name === 'vertex' && current) current.xyz.push3(Number(a['x']), Number(a['y']), Number(a['z']))
    else if (name === 'triangle' && current) {
      const n = current.xyz.length / 3
      for (const k of ['v1', 'v2', 'v3']) {
        const v = Number(a[k])
        if (!Number.isInteger(v) || v < 0 || v >= n)
          throw new OakError('bad-index', `A triangle names vertex ${a[k]}, but there are ${n}.`, { where: 'model', remedy: 'Export the file again.' })
        current.triangles.push(v)
      }
    } else if (/^(basematerials|colorgroup|texture2dgroup|compositematerials)$/.test(name)) coloured = true
    else if (name === 'model') unit = UNITS[a['unit'] ?? 'millimeter'] ?? 'mm'
    else if (name === 'object') {
      current = { xyz: new GrowF64(1024), triangles: new GrowU32(1024), parts: [] }
      things.set(a['id'], current)
    } else if (name === 'component' && current) current.parts.push({ id: a['objectid'], transform: matrix(a['transform']) })
    else if (name === 'item') build.push({ id: a['objectid'], transform: matrix(a['transform']) })
  })
  parser.on('closetag', (tag) => {
    if (tag.name.replace(/^.*:/, '') === 'object') current = undefined
  })
  return {
    write: (s: string) => void parser.write(s),
    close: () => void parser.close(),
    result(): Read {
      const pieces: { xyz: Float64Array; t: Uint32Array }[] = []
      let [placed, visits] = [0, 0]
      const place = (id: string, chain: number[][], depth: number): void => {
        if (depth > 32) throw bad('Objects contain each other.', `object ${id}`)
        const thing = things.get(id)
        if (!thing) throw bad(`Object ${id} is used but not given.`, 'model')
        // a few objects that contain each other ten times over would come to more than any memory holds
        placed += 4 * (thing.xyz.length + thing.triangles.length)
        if (placed > most || ++visits > MOST_PLACED)
          throw new OakError('zip-bomb', 'The model contains its own objects so many times that it comes to more than any real part.', {
            where: `object ${id}`,
            remedy: 'If the file is sound, export it without components, or as STL.',
          })
        if (thing.triangles.length) {
          const xyz = thing.xyz.done()
          // row vectors: v' = v M, innermost first
          for (const m of chain)
            for (let i = 0; i < xyz.length; i += 3) {
              const [x, y, z] = [xyz[i], xyz[i + 1], xyz[i + 2]]
              for (let k = 0; k < 3; k++) xyz[i + k] = x * m[k] + y * m[3 + k] + z * m[6 + k] + m[9 + k]
            }
          pieces.push({ xyz, t: thing.triangles.done() })
        }
        for (const p of thing.parts) place(p.id, p.transform ? [p.transform, ...chain] : chain, depth + 1)
      }
      if (build.length) for (const b of build) place(b.id, b.transform ? [b.transform] : [], 0)
      else for (const id of things.keys()) place(id, [], 0)
      const xyz = f32(pieces.reduce((s, p) => s + p.xyz.length, 0))
      const t = u32(pieces.reduce((s, p) => s + p.t.length, 0))
      let [v, k] = [0, 0]
      for (const p of pieces) {
        for (let i = 0; i < p.xyz.length; i++) xyz[v + i] = p.xyz[i] - origin[i % 3]
        for (let i = 0; i < p.t.length; i++) t[k++] = p.t[i] + v / 3
        v += p.xyz.length
      }
      return { ...finish({ xyz, triangles: t }, coloured ? ['Materials and colours of the file are not read: they are lost.'] : []), unit }
    },
  }
}

/** 3MF core, one object, mm. */
export function* write3mf(mesh: Mesh, title = 'part'): Generator<Uint8Array> {
  const { vertices: p, triangles: t } = mesh
  const safe = title.replace(/[<>&"]/g, ' ')
  const parts = [
    `<?xml version="1.0" encoding="UTF-8"?>\n<model unit="millimeter" xml:lang="en" xmlns="http://schemas.microsoft.com/3dmanufacturing/core/2015/02">\n<metadata name="Title">${safe}</metadata>\n<resources><object id="1" type="model"><mesh><vertices>\n`,
  ]
  let line = ''
  const flush = () => {
    parts.push(line)
    line = ''
  }
  for (let i = 0; i < p.length; i += 3) {
    line += `<vertex x="${num(p[i])}" y="${num(p[i + 1])}" z="${num(p[i + 2])}"/>\n`
    if (line.length > 1 << 16) flush()
  }
  line += '</vertices><triangles>\n'
  for (let i = 0; i < t.length; i += 3) {
    line += `<triangle v1="${t[i]}" v2="${t[i + 1]}" v3="${t[i + 2]}"/>\n`
    if (line.length > 1 << 16) flush()
  }
  line += '</triangles></mesh></object></resources><build><item objectid="1"/></build></model>\n'
  flush()
  const types =
    '<?xml version="1.0" encoding="UTF-8"?>\n<Types xmlns="http://schemas.openxmlformats.org/package/2006/content-types"><Default Extension="rels" ContentType="application/vnd.openxmlformats-package.relationships+xml"/><Default Extension="model" ContentType="application/vnd.ms-package.3dmanufacturing-3dmodel+xml"/></Types>'
  const rels =
    '<?xml version="1.0" encoding="UTF-8"?>\n<Relationships xmlns="http://schemas.openxmlformats.org/package/2006/relationships"><Relationship Target="/3D/3dmodel.model" Id="rel0" Type="http://schemas.microsoft.com/3dmanufacturing/2013/01/3dmodel"/></Relationships>'
  yield zipSync({ '[Content_Types].xml': strToU8(types), '_rels/.rels': strToU8(rels), '3D/3dmodel.model': concat(parts) }, { level: 6, mtime: '1980-01-02' })
}

function concat(parts: string[]): Uint8Array {
  const encoded = parts.map((s) => strToU8(s))
  const out = new Uint8Array(encoded.reduce((s, e) => s + e.length, 0))
  let o = 0
  for (const e of encoded) {
    out.set(e, o)
    o += e.length
  }
  return out
}
