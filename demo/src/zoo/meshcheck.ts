import { f32 } from '@oak-gauge/core/base/arrays.ts'
import { invertRigid, multiply, transformArray, type Mat4 } from '@oak-gauge/core/base/mat4.ts'
import type { RunContext } from '@oak-gauge/core/base/run.ts'
import { quantile } from '@oak-gauge/core/base/stats.ts'
import { deviationTo } from '@oak-gauge/core/inspect/deviation.ts'
import { mergePasses } from '@oak-gauge/core/merge/merge.ts'
import type { Placed, Points } from '@oak-gauge/core/shape/points.ts'
import type { ZooPass, ZooScene } from './record.ts'

/** A merged mesh against its part, mm of a part of 150 mm. */
export interface MeshCheck {
  rms: number
  within95: number
  /** share of what the passes saw that the mesh has within a cell */
  covered: number
}

const PLACES = 20_000

/** Merges adjusted passes at the proposed cell, and holds the mesh against the part and against what was seen of it. */
export async function checkMesh(scene: ZooScene, passes: ZooPass[], placed: Placed<Points>[], poses: Mat4[], ctx: RunContext): Promise<MeshCheck> {
  const quiet = { ...ctx, progress: () => undefined }
  const { mesh, cell } = await mergePasses(
    placed.map((p, i) => ({ ...p, pose: poses[i] })),
    {},
    quiet,
  )
  const toPart = multiply(passes[0].truePose, invertRigid(poses[0]))
  const inPart = { ...mesh, vertices: transformArray(toPart, mesh.vertices, f32(mesh.vertices.length)) }
  const { values } = await deviationTo(scene.mesh, inPart.vertices, Infinity, quiet)
  let ss = 0
  for (const v of values) ss += v * v
  const seen: number[] = []
  const total = scene.views.reduce((s, v) => s + v.exact.length / 3, 0)
  for (const { exact } of scene.views) {
    const step = 3 * Math.max(1, Math.floor(total / PLACES))
    for (let k = 0; k < exact.length; k += step) seen.push(exact[k], exact[k + 1], exact[k + 2])
  }
  const back = await deviationTo(inPart, Float32Array.from(seen), Infinity, quiet)
  return {
    rms: Math.sqrt(ss / Math.max(1, values.length)) / scene.unit,
    within95: quantile(Float64Array.from(values, Math.abs), 0.95) / scene.unit,
    covered: back.values.reduce((s, v, i) => s + (Math.abs(v) < cell && !back.beyond[i] ? 1 : 0), 0) / Math.max(1, back.values.length),
  }
}
