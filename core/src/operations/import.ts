import { z } from 'zod'
import { OakError } from '../base/errors.ts'
import { f32 } from '../base/arrays.ts'
import { identity, translation } from '../base/mat4.ts'
import { readAny } from '../formats/index.ts'
import { MM_PER, type Unit } from '../formats/imported.ts'
import { boundingBox, boxDiagonal, makePoints } from '../shape/points.ts'
import { orient } from '../repair/orientation.ts'
import { makeMesh, movedSurface, type Mesh } from '../shape/mesh.ts'
import { defineOperation, type FileValue, type Item } from './operation.ts'
import { q } from './quantities.ts'

/** A part this small (in mm) is more likely in inches or metres, one this large in micrometres. */
const PLAUSIBLE = [10, 20_000]
/** Below this many units from corner to corner it may as well be inches. */
const DOUBTFUL = 60

/** Deviations have a sign and bodies a volume only where there is one outside: what can be mended is, what cannot is said. */
function oriented(mesh: Mesh, warnings: string[]): Mesh {
  const r = orient(mesh)
  const n = mesh.triangles.length / 3
  if (r.turned)
    warnings.push(
      `${r.turned === n ? 'The mesh was inside out' : `${r.turned} of ${n} triangles lay the other way round than the rest`}: turned, so that there is one outside.`,
    )
  if (r.oneSided) warnings.push(`${r.oneSided} pieces have one side only and no outside: the sign of deviations means nothing there.`)
  if (r.branching) warnings.push(`${r.branching} edges are shared by more than two triangles: the pieces that meet there may not agree on what is outside.`)
  return r.mesh
}

export const importFile = defineOperation({
  name: 'import',
  version: 4,
  title: 'Bring in a file',
  stage: 'Capture',
  picture: true,
  about:
    'Reads a scan, mesh or nominal from a file. Coordinates become millimetres; far from the origin they are kept relative to a pose, so that no digit is lost.',
  params: z.object({
    unit: z
      .enum(['auto', 'mm', 'cm', 'm', 'in', 'ft', 'um'])
      .default('auto')
      .describe('Unit of a file that does not say its own. auto: mm where the size is plausible.'),
    insist: z.boolean().default(false).describe('The file says a wrong unit: the given one holds in its place.'),
    name: z.string().max(200).optional().describe('Name of the item; default: the file’s name.'),
  }),
  inputs: { file: { kinds: ['file'], about: 'the file' } },
  outputs: { item: { kind: 'points', about: 'points or mesh' } },
  async run(inputs, params, ctx) {
    const [{ source }] = inputs['file'] as FileValue[]
    ctx.progress(0, 'reading')
    const read = await readAny(source, ctx)
    const raw = read.data.kind === 'points' ? read.data.xyz : read.data.vertices
    const box = boundingBox(raw)
    const diagonal = boxDiagonal(box)
    const given = params.unit === 'auto' ? undefined : params.unit
    const warnings = [...read.warnings]
    // a unit is applied once: never on top of what the file says itself
    let unit: Unit = read.unit ?? given ?? 'mm'
    if (given && read.unit && given !== read.unit) {
      if (params.insist) unit = given
      else if (given !== read.stated) warnings.push(`The file says its unit itself (${read.stated ?? read.unit}); the unit given, ${given}, was not applied.`)
    }
    if (!given && !read.unit) {
      if (diagonal < PLAUSIBLE[0] || diagonal > PLAUSIBLE[1])
        throw new OakError('unit-unknown', `The part in ${source.name} is ${diagonal.toPrecision(3)} units long, and the file does not say which unit.`, {
          where: source.name,
          remedy: 'Say the unit: mm, cm, m, in, ft or um.',
        })
      if (diagonal < DOUBTFUL)
        warnings.push(
          `The file does not say its unit, and millimetres were taken: ${diagonal.toPrecision(3)} mm from corner to corner. In inches it would be ${(25.4 * diagonal).toPrecision(3)} mm; if that is what it is, bring it in with its unit.`,
        )
    }
    const k = MM_PER[unit]
    // beyond 2 m from the origin single precision would lose micrometres
    const centre = [0, 1, 2].map((a) => Math.round(((box[a] + box[a + 3]) / 2 + read.origin[a]) * k))
    const far = Math.max(...centre.map(Math.abs)) > 2000
    const shift = far ? centre : [0, 0, 0]
    let xyz = raw
    const off = shift.map((v, a) => read.origin[a] * k - v)
    if (k !== 1 || off.some((v) => v !== 0)) {
      xyz = f32(raw.length)
      for (let i = 0; i < raw.length; i++) xyz[i] = raw[i] * k + off[i % 3]
    }
    const name = params.name ?? source.name.replace(/\.[^.]+$/, '')
    const d = read.data
    const v = d.kind === 'points' ? d.viewpoint : undefined
    const item: Item = {
      name,
      pose: far ? translation(shift[0], shift[1], shift[2]) : identity(),
      data:
        d.kind === 'points'
          ? makePoints({ ...d, xyz, viewpoint: v && ([0, 1, 2].map((a) => (v[a] + read.origin[a]) * k - shift[a]) as [number, number, number]) })
          : oriented(makeMesh({ ...d, vertices: xyz, surfaces: d.surfaces?.map((s) => movedSurface(s, translation(off[0], off[1], off[2]))) }), warnings),
    }
    const size = [0, 1, 2].map((a) => (box[a + 3] - box[a]) * k)
    return {
      outputs: { item: [item] },
      evidence: {
        quantities: [
          d.kind === 'points' ? q('points', d.xyz.length / 3) : q('triangles', d.triangles.length / 3),
          q('size-x', size[0]),
          q('size-y', size[1]),
          q('size-z', size[2]),
          ...(d.kind === 'mesh' && d.surfaces ? [q('faces', d.surfaces.length)] : []),
          ...(read.exact ? [...(read.exact.volume ? [q('volume', read.exact.volume)] : []), q('area', read.exact.area), q('chord', read.exact.chord)] : []),
          q('unit-of-the-file', params.insist && given ? given : (read.stated ?? read.unit ?? given ?? 'mm, assumed')),
          q('format', read.format.toUpperCase()),
        ],
        warnings,
      },
    }
  },
})
