import { inFile, OakError } from '../base/errors.ts'
import { quietContext, type RunContext } from '../base/run.ts'
import type { Mesh } from '../shape/mesh.ts'
import { boundingBox, boxDiagonal, type Points } from '../shape/points.ts'
import { NO_ORIGIN, type Origin, type Read } from './imported.ts'
import { isE57, readE57 } from './e57.ts'
import { readObj, writeObj } from './obj.ts'
import { readPly, writePly } from './ply.ts'
import { ascii, type ByteSource } from './source.ts'
import { readStep } from './step.ts'
import { readStl, writeStl } from './stl.ts'
import { read3mf, write3mf } from './threemf.ts'
import { readXyz, writeXyz } from './xyz.ts'

export type Format = 'ply' | 'stl' | 'obj' | '3mf' | 'xyz' | 'step' | 'e57'

/** Those that are written as well. */
export type WritableFormat = Exclude<Format, 'step' | 'e57'>

const ENDINGS: Record<string, Format> = {
  ply: 'ply',
  stl: 'stl',
  obj: 'obj',
  '3mf': '3mf',
  xyz: 'xyz',
  asc: 'xyz',
  csv: 'xyz',
  txt: 'xyz',
  pts: 'xyz',
  step: 'step',
  stp: 'step',
  e57: 'e57',
}
const READERS: Record<Format, (s: ByteSource, origin: Origin, ctx: RunContext) => Promise<Read>> = {
  ply: readPly,
  stl: readStl,
  obj: readObj,
  '3mf': read3mf,
  xyz: readXyz,
  step: readStep,
  e57: readE57,
}

/** What a file is by its first bytes, or undefined where they do not say. */
function formatByContent(head: Uint8Array): Format | undefined {
  const t = ascii(head, 0, Math.min(head.length, 256))
  if (/^ply\r?\n/.test(t)) return 'ply'
  if (t.startsWith('PK\u0003\u0004')) return '3mf'
  if (isE57(head)) return 'e57'
  if (/^\s*ISO-10303-21/.test(t)) return 'step'
  if (/^\s*solid[^\0]*\n\s*(facet|endsolid)/i.test(t)) return 'stl'
  return undefined
}

/** A part that lies so many times its own length from the origin is read once more, relative to its middle: single precision would blur it. */
const FAR = 16

/** Reads any supported file (STEP where the context has a CAD kernel); the data are relative to `origin` (the file's unit), which is zero unless the part lies far out. The content decides where it is clear, so that a wrong ending does no harm (it is mentioned). */
export async function readAny(source: ByteSource, ctx: RunContext = quietContext): Promise<Read & { format: Format; origin: Origin }> {
  try {
    const ending = source.name.toLowerCase().split('.').pop() ?? ''
    const byName = ENDINGS[ending]
    let head: Uint8Array = new Uint8Array(0)
    for await (const c of source.chunks()) {
      head = c
      break
    }
    if (source.size === 0) throw new OakError('empty', 'The file is empty (0 bytes).', { remedy: 'Export or copy it again.' })
    const byContent = formatByContent(head)
    const format = byContent ?? byName
    if (!format)
      throw new OakError('unknown-format', `Files ending in “.${ending}” are not read.`, {
        remedy: 'Bring it as PLY, STL, OBJ, 3MF, STEP, E57 or point text (xyz, asc, csv).',
      })
    let read = await READERS[format](source, NO_ORIGIN, ctx)
    const box = boundingBox(read.data.kind === 'points' ? read.data.xyz : read.data.vertices)
    const middle = [0, 1, 2].map((k) => Math.round((box[k] + box[k + 3]) / 2)) as [number, number, number]
    const far = Math.max(...middle.map(Math.abs)) > FAR * boxDiagonal(box)
    const origin = far ? middle : NO_ORIGIN
    if (far) read = await READERS[format](source, origin, ctx)
    if (byContent && byName !== byContent) read.warnings.push(`The ending says .${ending}, the content is ${byContent.toUpperCase()}; it was read as such.`)
    return { ...read, format, origin }
  } catch (e) {
    throw inFile(source.name, e)
  }
}

/** What of the data a format has no place for, in words. */
export function lostIn(format: WritableFormat, data: Points | Mesh): string[] {
  const lost: string[] = []
  if (data.colours && (format === 'stl' || format === '3mf')) lost.push('colours')
  if (data.kind === 'mesh' && data.unmeasured && format !== 'ply') lost.push('which triangles were filled in and not measured')
  if (data.kind === 'points' && data.viewpoint && format === 'xyz') lost.push('where the scanner stood')
  return lost
}

/** Writes a mesh or points. Throws OakError 'wrong-format' for points in a format that knows only triangles. */
export function writeAny(format: WritableFormat, data: Points | Mesh, title: string): Iterable<Uint8Array> {
  if (format === 'ply') return writePly(data, title)
  if (data.kind === 'points') {
    if (format === 'xyz') return writeXyz(data)
    throw new OakError('wrong-format', `${format.toUpperCase()} holds triangles, not points.`, { remedy: 'Write points as PLY or XYZ, or merge them first.' })
  }
  if (format === 'stl') return writeStl(data, title)
  if (format === 'obj') return writeObj(data, title)
  if (format === '3mf') return write3mf(data, title)
  throw new OakError('wrong-format', 'XYZ holds points, not triangles.', { remedy: 'Write the mesh as STL, PLY, OBJ or 3MF.' })
}

export const WRITABLE = ['stl', 'ply', 'obj', '3mf', 'xyz'] as const
