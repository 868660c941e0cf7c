import occt from 'occt-import-js'
import { f32, u32 } from '../base/arrays.ts'
import { OakError } from '../base/errors.ts'
import { makeMesh } from '../shape/mesh.ts'
import { meshFromCorners } from '../shape/weld.ts'
import type { Read } from './imported.ts'
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

let kernel: Promise<Kernel> | undefined

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
  kernel ??= (occt as unknown as () => Promise<Kernel>)()
  const result = (await kernel).ReadStepFile(bytes, {
    linearUnit: 'millimeter',
    linearDeflectionType: 'absolute_value',
    linearDeflection: chord,
    angularDeflection: 0.1,
  })
  if (!result.success || result.meshes.length === 0)
    throw new OakError('bad-step', 'No body could be read from the file.', { remedy: 'Export it again as AP214 or AP242, with solids.' })
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
  return { data: makeMesh(mesh), unit: 'mm', warnings }
}
