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
  /** nothing coarser keeps the deviation that was asked for: the mesh is as it was */
  gaveUp: boolean
}

/**
 * Fewer triangles by edge collapse under quadric errors (Garland and Heckbert 1997, as in the package meshoptimizer), then
 * the true distance of the two surfaces is measured both ways: the quadric's own figure is not a bound.
 * With `deviation` the collapse is repeated with a tighter error until the measured distance keeps it.
 * Vertices between measured and filled surface stay, so that what is flagged not measured stays flagged, and nothing else becomes it.
 * Throws OakError 'bad-target' unless one of the two is a positive number.
 */
export async function reduceMesh(mesh: Mesh, options: ReduceOptions, ctx: RunContext): Promise<ReduceResult> {
  const { triangles, deviation } = options
  if (!(triangles !== undefined && triangles >= 4) && !(deviation !== undefined && deviation > 0))
    throw new OakError('bad-target', 'Say how many triangles to keep (4 or more) or what deviation to permit (above 0 mm).')
  await MeshoptSimplifier.ready
  ctx.progress(0.05, 'collapsing')
  const original = prepareSignedDistance(mesh)
  const kinds = vertexKinds(mesh)
  const once = async (count: number, error: number, measuring: RunContext): Promise<ReduceResult> => {
    const raw = collapse(mesh, count, error, kinds)
    checkCancelled(ctx)
    const { nearest, ...distances } = await distanceBothWays(mesh, original, raw, measuring)
    if (raw === mesh) return { mesh, ...distances, gaveUp: false }
    const unmeasured = kinds && carryFlags(mesh, raw.triangles, kinds, nearest)
    return { mesh: splitPinchedVertices(compact(makeMesh({ ...raw, unmeasured }))), ...distances, gaveUp: false }
  }
  if (deviation === undefined) return once(triangles as number, 1e30, subProgress(ctx, 0.6, 1, 'measuring'))
  let error = deviation
  for (let round = 0; round < 8; round++) {
    const r = await once(triangles ?? 4, error, subProgress(ctx, round / 8, (round + 1) / 8, 'measuring'))
    if (r.maxDeviation <= deviation) return r
    error *= Math.max(0.25, Math.min(0.85, (0.9 * deviation) / r.maxDeviation))
  }
  return { mesh, maxDeviation: 0, rmsDeviation: 0, gaveUp: true }
}

/** Collapsed to so many triangles without measuring what that did: for what only hides other things. */
export async function coarseMesh(mesh: Mesh, triangles: number): Promise<Mesh> {
  if (mesh.triangles.length <= 3 * triangles) return mesh
  await MeshoptSimplifier.ready
  return compact(makeMesh(collapse(mesh, triangles, 1e30, undefined)))
}

/** Measured and filled vertices, and those on the border between both, which stay: so no triangle ever spans the border. */
const MEASURED = 1
const FILLED = 2

function vertexKinds(mesh: Mesh): Uint8Array | undefined {
  const flags = mesh.unmeasured
  if (!flags?.includes(1)) return undefined
  const kinds = new Uint8Array(mesh.vertices.length / 3)
  for (let i = 0; i < mesh.triangles.length; i++) kinds[mesh.triangles[i]] |= flags[(i / 3) | 0] ? FILLED : MEASURED
  return kinds
}

/** The mesh with fewer triangles, not yet compact, so that its vertices can still be told by the old numbers. */
function collapse(mesh: Mesh, triangles: number, error: number, kinds: Uint8Array | undefined): Mesh {
  if (triangles >= triangleCount(mesh) && error >= 1e30) return mesh
  const scale = MeshoptSimplifier.getScale(mesh.vertices, 3)
  const [index] = MeshoptSimplifier.simplifyWithAttributes(
    new Uint32Array(mesh.triangles),
    new Float32Array(mesh.vertices),
    3,
    new Float32Array(0),
    0,
    [],
    kinds ? kinds.map((k) => (k === (MEASURED | FILLED) ? 1 : 0)) : null,
    Math.min(mesh.triangles.length, Math.max(12, Math.floor(triangles) * 3)),
    Math.min(1e30, error / scale),
    [],
  )
  const t = u32(index.length)
  t.set(index)
  return makeMesh({ vertices: mesh.vertices, triangles: t, colours: mesh.colours })
}

/** Flags of the reduced triangles: by any corner that is not on the border of a filling, else by the old triangle nearest to their middle. */
function carryFlags(mesh: Mesh, t: Uint32Array, kinds: Uint8Array, nearest: Uint32Array): Uint8Array {
  const out = u8(t.length / 3)
  for (let i = 0; i < out.length; i++) {
    const kind = kinds[t[3 * i]] & kinds[t[3 * i + 1]] & kinds[t[3 * i + 2]]
    out[i] = kind === (MEASURED | FILLED) ? (mesh.unmeasured as Uint8Array)[nearest[i]] : kind === FILLED ? 1 : 0
  }
  return out
}

/** Largest and rms distance, from every vertex of the old to the new surface and from the middles of the new triangles to the old, and which are nearest to those. */
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
  return { maxDeviation: max, rmsDeviation: Math.sqrt(ss / Math.max(1, forward.values.length)), nearest: back.triangle }
}
