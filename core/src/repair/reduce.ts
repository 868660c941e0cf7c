import { MeshoptSimplifier } from 'meshoptimizer'
import { f32, u32, u8 } from '../base/arrays.ts'
import { OakError } from '../base/errors.ts'
import { checkCancelled, subProgress, type RunContext } from '../base/run.ts'
import { deviationTo } from '../inspect/deviation.ts'
import { compact, makeMesh, triangleCount, type Mesh } from '../shape/mesh.ts'
import { splitPinchedVertices } from '../shape/topology.ts'
import { prepareSignedDistance } from '../space/signed.ts'

export interface ReduceOptions {
  /** stop at so many triangles */
  triangles?: number
  /** or when the surface would move by more than this, mm */
  deviation?: number
}

export interface ReduceResult {
  mesh: Mesh
  /** largest distance between the two surfaces, measured both ways, mm */
  maxDeviation: number
  rmsDeviation: number
}

/**
 * Fewer triangles by edge collapse under quadric errors (Garland and Heckbert 1997, as in the package meshoptimizer), then
 * the true distance of the two surfaces is measured both ways: the quadric's own figure is not a bound.
 * With `deviation` the collapse is repeated with a tighter error until the measured distance keeps it.
 * Throws OakError 'bad-target' unless one of the two is a positive number.
 */
export async function reduceMesh(mesh: Mesh, options: ReduceOptions, ctx: RunContext): Promise<ReduceResult> {
  const { triangles, deviation } = options
  if (!(triangles !== undefined && triangles >= 4) && !(deviation !== undefined && deviation > 0))
    throw new OakError('bad-target', 'Say how many triangles to keep (4 or more) or what deviation to permit (above 0 mm).')
  await MeshoptSimplifier.ready
  ctx.progress(0.05, 'collapsing')
  const original = prepareSignedDistance(mesh)
  if (deviation === undefined) {
    const reduced = collapse(mesh, triangles as number, 1e30)
    checkCancelled(ctx)
    return { mesh: reduced, ...(await distanceBothWays(mesh, original, reduced, subProgress(ctx, 0.6, 1, 'measuring'))) }
  }
  let error = deviation
  for (let round = 0; round < 8; round++) {
    const reduced = collapse(mesh, triangles ?? 4, error)
    checkCancelled(ctx)
    const d = await distanceBothWays(mesh, original, reduced, subProgress(ctx, round / 8, (round + 1) / 8, 'measuring'))
    if (d.maxDeviation <= deviation) return { mesh: reduced, ...d }
    error *= Math.max(0.25, Math.min(0.85, (0.9 * deviation) / d.maxDeviation))
  }
  return { mesh, maxDeviation: 0, rmsDeviation: 0 }
}

function collapse(mesh: Mesh, triangles: number, error: number): Mesh {
  if (triangles >= triangleCount(mesh) && error >= 1e30) return mesh
  const scale = MeshoptSimplifier.getScale(mesh.vertices, 3)
  const plain = new Float32Array(mesh.vertices)
  const [index] = MeshoptSimplifier.simplify(
    new Uint32Array(mesh.triangles),
    plain,
    3,
    Math.max(12, Math.floor(triangles) * 3),
    Math.min(1e30, error / scale),
    [],
  )
  const t = u32(index.length)
  t.set(index)
  const unmeasured = mesh.unmeasured && carryFlags(mesh, t)
  return splitPinchedVertices(compact(makeMesh({ vertices: mesh.vertices, triangles: t, unmeasured, colours: mesh.colours })))
}

/** A triangle of the reduced mesh is unmeasured when any of its corners lay in the midst of filled surface. */
function carryFlags(mesh: Mesh, t: Uint32Array): Uint8Array {
  const measured = new Uint8Array(mesh.vertices.length / 3)
  for (let i = 0; i < mesh.triangles.length; i++) if (!(mesh.unmeasured as Uint8Array)[(i / 3) | 0]) measured[mesh.triangles[i]] = 1
  const out = u8(t.length / 3)
  for (let i = 0; i < out.length; i++) out[i] = measured[t[3 * i]] && measured[t[3 * i + 1]] && measured[t[3 * i + 2]] ? 0 : 1
  return out
}

/** Largest and rms distance, from every vertex of each to the other surface, and from the reduced triangles' middles. */
async function distanceBothWays(mesh: Mesh, original: ReturnType<typeof prepareSignedDistance>, reduced: Mesh, ctx: RunContext) {
  const forward = await deviationTo(prepareSignedDistance(reduced), mesh.vertices, Infinity, ctx)
  let max = 0
  let ss = 0
  for (const v of forward.values) {
    max = Math.max(max, Math.abs(v))
    ss += v * v
  }
  const p = reduced.vertices
  const t = reduced.triangles
  const middles = f32(t.length)
  for (let i = 0; i < t.length; i += 3) for (let k = 0; k < 3; k++) middles[i + k] = (p[3 * t[i] + k] + p[3 * t[i + 1] + k] + p[3 * t[i + 2] + k]) / 3
  const back = await deviationTo(original, middles, Infinity, ctx)
  for (const v of back.values) max = Math.max(max, Math.abs(v))
  return { maxDeviation: max, rmsDeviation: Math.sqrt(ss / Math.max(1, forward.values.length)) }
}
