import { kernelWords, type CadShape } from '../base/cad.ts'
import { u32 } from '../base/arrays.ts'
import { OakError } from '../base/errors.ts'
import { quietContext, type RunContext } from '../base/run.ts'
import { meshFacts } from '../measure/facts.ts'
import { compact, makeMesh, type Mesh } from '../shape/mesh.ts'
import { weld } from '../shape/weld.ts'
import { NO_ORIGIN, type Origin, type Read, type Unit } from './imported.ts'
import { lookOver, type Part21 } from './part21.ts'
import { ascii, type ByteSource } from './source.ts'

const MOST_MB = 256
/** Seams of faces differ in the last bit. mm */
const SEAM = 1e-6
/** mm that faces which shall meet may lie apart without a word: exporters round to a micrometre or ten. Common practice, no source. */
const APART = 0.01

/**
 * STEP (ISO 10303-21) into a fine triangle mesh in mm, every CAD face with its own number and its exact surface. The context's CAD kernel reads and converts units; what it does not tell of
 * a damaged file is found by looking the text over, by the kernel's check of the body, and by holding the triangles against the exact volume.
 * chord: largest distance of a triangle from the true surface, mm (default: by the part's size, 0.005 mm and finer, coarser only beyond 1.5 million triangles).
 * Throws OakError 'not-step', 'truncated', 'bad-step', 'too-large' (over 256 MB, since the kernel needs the file whole), 'cad-time', 'cad-memory', 'no-cad' (this host has no kernel).
 */
export async function readStep(source: ByteSource, origin: Origin = NO_ORIGIN, ctx: RunContext = quietContext, chord?: number): Promise<Read> {
  if (source.size > MOST_MB * 1024 * 1024)
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
  if (!ctx.cad)
    throw new OakError('no-cad', 'STEP files cannot be read here: no CAD kernel.', {
      remedy: 'Bring the part as STL, or read it with the program’s server or command.',
    })
  const shape = await ctx.cad.read(bytes, { origin, ...(chord === undefined ? {} : { chord }) }, ctx.signal)
  const mesh = meshOf(shape)
  const stated = statedUnit(ascii(bytes))
  return {
    data: mesh,
    unit: 'mm',
    ...(stated ? { stated } : {}),
    exact: { volume: shape.volume, area: shape.area, chord: shape.chord },
    warnings: doubts(shape, mesh, lookOver(bytes)),
  }
}

function meshOf(shape: CadShape): Mesh {
  const { vertices, index } = weld(shape.vertices, SEAM)
  const t = shape.triangles
  const faces = u32(t.length / 3)
  for (let f = 0, i = 0; f < shape.triangleCounts.length; f++) for (const end = i + shape.triangleCounts[f]; i < end; i++) faces[i] = f
  let n = 0
  const triangles = u32(t.length)
  for (let i = 0; i < t.length; i += 3) {
    const [a, b, c] = [index[t[i]], index[t[i + 1]], index[t[i + 2]]]
    // slivers along a seam
    if (a === b || b === c || a === c) continue
    triangles.set([a, b, c], 3 * n)
    faces[n++] = faces[i / 3]
  }
  return compact(makeMesh({ vertices, triangles: triangles.slice(0, 3 * n), faces: faces.slice(0, n), surfaces: shape.surfaces }))
}

/** What of the file may not have come through, in words. */
function doubts(shape: CadShape, mesh: Mesh, text: Part21): string[] {
  const out: string[] = []
  if (shape.solids > 1) out.push(`The file holds ${shape.solids} bodies; all of them were taken.`)
  if (shape.solids === 0) out.push('The file holds surfaces and no body: which side is outside is not certain.')
  if (shape.said.length) out.push(`The CAD kernel met errors in the file, and faces may be missing: ${kernelWords(shape.said)}.`)
  // one colour all over tells nothing
  if (text.colours > 1) out.push(`The ${text.colours} colours of the file are not read: they are lost.`)
  if (text.missing.length)
    out.push(
      `The file is damaged: it speaks of ${counted(text.missing.length, 'entity', 'entities')} that it does not hold (the first is #${text.missing[0]}).`,
    )
  if (text.doubled.length)
    out.push(`The file is damaged: #${text.doubled[0]}${text.doubled.length > 1 ? ` and ${text.doubled.length - 1} more` : ''} stands in it twice.`)
  if (text.open) out.push('The file is damaged: a text or a list in it does not end.')
  if (text.faces > shape.distinctFaces) out.push(`${text.faces - shape.distinctFaces} of the file’s ${text.faces} faces could not be read.`)
  if (!shape.valid) out.push('The body contradicts itself: by the CAD kernel’s own check its faces and edges do not fit together.')
  else if (shape.apart > Math.max(APART, shape.chord))
    out.push(`Faces that shall meet lie up to ${shape.apart.toPrecision(2)} mm apart in the file: along their edges it is no better than that.`)
  if (shape.solids > 0) {
    const { volume, topology } = meshFacts(mesh)
    const { openEdges } = topology
    if (openEdges) out.push(`The body is open: ${openEdges} edges of triangles have no neighbour.`)
    // inscribed triangles miss up to a chord all over
    else if (Math.abs(volume - shape.volume) > 1.5 * shape.chord * shape.area + 1e-6 * Math.abs(shape.volume))
      out.push(
        `The triangles enclose ${volume.toPrecision(6)} mm³, the exact faces ${shape.volume.toPrecision(6)} mm³: some faces were not covered well. Hold the picture against the drawing.`,
      )
  }
  return out
}
const counted = (n: number, one: string, many: string) => `${n} ${n === 1 ? one : many}`

/** The unit of lengths that the file declares; what it converts from. */
function statedUnit(text: string): Unit | undefined {
  const converted = /CONVERSION_BASED_UNIT\s*\(\s*'(INCH|FOOT|FT|IN)[^']*'/i.exec(text)?.[1]?.toUpperCase()
  if (converted) return converted.startsWith('I') ? 'in' : 'ft'
  const si = /LENGTH_UNIT\s*\(\s*\)[^;]*?SI_UNIT\s*\(\s*(\.\w+\.|\$)\s*,\s*\.METRE\.\s*\)/i.exec(text)?.[1]?.toUpperCase()
  return si === undefined ? undefined : ({ '.MILLI.': 'mm', '.CENTI.': 'cm', '.MICRO.': 'um', $: 'm' } as Record<string, Unit>)[si]
}
