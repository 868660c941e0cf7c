import occt from 'occt-import-js'
import { f32, u32 } from '../base/arrays.ts'
import { OakError } from '../base/errors.ts'
import { makeMesh } from '../shape/mesh.ts'
import { meshFromCorners } from '../shape/weld.ts'
import type { Read, Unit } from './imported.ts'
import { ascii, type ByteSource } from './source.ts'

interface Kernel {
  ReadStepFile(
    content: Uint8Array,
    options: object,
  ): {
    success: boolean
    meshes: { name: string; attributes: { position: { array: number[] } }; index: { array: number[] }; brep_faces: { first: number; last: number }[] }[]
  }
}

/**
 * STEP (ISO 10303-21) into a fine triangle mesh in mm, every CAD face with its own number so that faces can be chosen.
 * chord: largest distance of a triangle from the true surface, mm (default 0.005); the kernel converts units.
 * Throws OakError 'not-step', 'bad-step', 'too-large' (over 256 MB, since the kernel needs the file whole).
 */
export async function readStep(source: ByteSource, chord = 0.005): Promise<Read> {
  if (source.size > 256 * 1024 * 1024)
    throw new OakError('too-large', `A STEP file of ${Math.round(source.size / 1e6)} MB is beyond what can be read.`, {
      remedy: 'Export the part alone, without the assembly around it.',
    })
  const parts: Uint8Array[] = []
  for await (const c of source.chunks()) parts.push(c)
  const bytes = new Uint8Array(parts.reduce((s, p) => s + p.length, 0))
  let o = 0
  for (const p of parts) {
    bytes.set(p, o)
    o += p.length
  }
  if (!/ISO-10303-21/.test(ascii(bytes, 0, Math.min(bytes.length, 512))))
    throw new OakError('not-step', 'This is no STEP file: it does not begin with ISO-10303-21.', {
      where: 'line 1',
      remedy: 'Check the file’s ending, or export it again as STEP.',
    })
  if (!/END-ISO-10303-21/.test(ascii(bytes, Math.max(0, bytes.length - 512))))
    throw new OakError('truncated', 'The file ends too early: the closing line is missing.', { where: 'end of file', remedy: 'Copy or export the file again.' })
  // a new kernel for each file: after a damaged one it may hang for ever
  const said: string[] = []
  const kernel = (await occt({ print: (line) => said.push(line), printErr: (line) => said.push(line) })) as Kernel
  let result: ReturnType<Kernel['ReadStepFile']>
  try {
    result = kernel.ReadStepFile(bytes, { linearUnit: 'millimeter', linearDeflectionType: 'absolute_value', linearDeflection: chord, angularDeflection: 0.1 })
  } catch (e) {
    throw badStep(`The CAD kernel gave up on the file${said.length ? `: ${inWords(said)}` : ` (${(e as Error).message})`}.`)
  }
  if (!result.success || result.meshes.length === 0) throw badStep(`No body could be read from the file${said.length ? `: ${inWords(said)}` : ''}.`)
  const triangles = result.meshes.reduce((s, m) => s + m.index.array.length / 3, 0)
  const corners = f32(9 * triangles)
  const faces = u32(triangles)
  let t = 0
  let face = 0
  for (const m of result.meshes) {
    const { array } = m.index
    const first = t
    for (let i = 0; i < array.length; i++) for (let k = 0; k < 3; k++) corners[9 * first + 3 * i + k] = m.attributes.position.array[3 * array[i] + k]
    t += array.length / 3
    for (const f of m.brep_faces) {
      for (let i = f.first; i <= f.last; i++) faces[first + i] = face
      face++
    }
  }
  const { mesh } = meshFromCorners(corners, faces, 1e-6)
  const warnings = result.meshes.length > 1 ? [`The file holds ${result.meshes.length} bodies; all of them were taken.`] : []
  if (said.length) warnings.push(`The CAD kernel met errors in the file, and faces may be missing: ${inWords(said)}.`)
  const stated = statedUnit(ascii(bytes))
  return { data: makeMesh(mesh), unit: 'mm', ...(stated ? { stated } : {}), warnings }
}

/** The unit of lengths that the file declares; what it converts from. */
function statedUnit(text: string): Unit | undefined {
  const converted = /CONVERSION_BASED_UNIT\s*\(\s*'(INCH|FOOT|FT|IN)[^']*'/i.exec(text)?.[1]?.toUpperCase()
  if (converted) return converted.startsWith('I') ? 'in' : 'ft'
  const si = /LENGTH_UNIT\s*\(\s*\)[^;]*?SI_UNIT\s*\(\s*(\.\w+\.|\$)\s*,\s*\.METRE\.\s*\)/i.exec(text)?.[1]?.toUpperCase()
  return si === undefined ? undefined : ({ '.MILLI.': 'mm', '.CENTI.': 'cm', '.MICRO.': 'um', $: 'm' } as Record<string, Unit>)[si]
}

const badStep = (message: string) => new OakError('bad-step', message, { remedy: 'Export it again as AP214 or AP242, with solids.' })

/** What the kernel printed, without its stars: the first three lines. */
const inWords = (said: string[]) =>
  said
    .map((line) => line.replace(/[*\s]+/g, ' ').trim())
    .filter(Boolean)
    .slice(0, 3)
    .join('; ')
