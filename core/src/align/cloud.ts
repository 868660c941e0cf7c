import { f32 } from '../base/arrays.ts'
import { transformArray } from '../base/mat4.ts'
import { subProgress, type RunContext } from '../base/run.ts'
import { thinPoints } from '../clean/thin.ts'
import { estimateNormals } from '../shape/normals.ts'
import { boundingBox, boxDiagonal, makePoints, type Placed, type Points } from '../shape/points.ts'

/** A thinned picture of a group of passes with outward normals, in the group's coordinates. */
export interface Cloud {
  xyz: Float32Array
  normals: Float32Array
  /** distance at which it was thinned, mm */
  size: number
  /** box diagonal, mm */
  diagonal: number
  guessed: boolean
}

/** Passes of one group, thinned to about one point per `size` mm (default: so that some `target` points are left). */
export async function groupCloud(passes: Placed<Points>[], target: number, ctx: RunContext, size?: number): Promise<Cloud> {
  let total = 0
  for (const p of passes) total += p.data.xyz.length
  const all = f32(total)
  let o = 0
  for (const p of passes) {
    transformArray(p.pose, p.data.xyz, all.subarray(o, o + p.data.xyz.length))
    o += p.data.xyz.length
  }
  const diagonal = boxDiagonal(boundingBox(all))
  let s = size ?? diagonal / 70
  if (size === undefined)
    for (let k = 0; k < 3; k++) {
      const n = thinPoints({ kind: 'points', xyz: all }, s).xyz.length / 3
      if (n > 0.8 * target && n < 1.3 * target) break
      s *= Math.sqrt(n / target)
    }
  const xs: Float32Array[] = []
  const ns: Float32Array[] = []
  let guessed = false
  for (let i = 0; i < passes.length; i++) {
    // normals on a half as coarse picture: at this scale the shape matters, not the noise
    const thin = thinPoints(passes[i].data, s / 2.5)
    const r = await estimateNormals(thin, { radius: 1.3 * s }, subProgress(ctx, i / passes.length, (i + 1) / passes.length))
    guessed ||= r.orientation === 'guessed'
    xs.push(transformArray(passes[i].pose, thin.xyz, f32(thin.xyz.length)))
    ns.push(transformArray(passes[i].pose, r.points.normals, f32(thin.xyz.length), true))
  }
  const join = (parts: Float32Array[]) => {
    const out = f32(parts.reduce((n, p) => n + p.length, 0))
    let at = 0
    for (const p of parts) {
      out.set(p, at)
      at += p.length
    }
    return out
  }
  const points = thinPoints(makePoints({ xyz: join(xs), normals: join(ns) }), s)
  return { xyz: points.xyz, normals: points.normals as Float32Array, size: s, diagonal, guessed }
}
