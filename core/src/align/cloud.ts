import { f32 } from '../base/arrays.ts'
import { transformArray } from '../base/mat4.ts'
import { subProgress, type RunContext } from '../base/run.ts'
import { thinPoints } from '../clean/thin.ts'
import { estimateNormals } from '../shape/normals.ts'
import { boxDiagonal, coreBox, type Placed, type Points } from '../shape/points.ts'
import { pointSpacing } from '../shape/spacing.ts'
import { cubesOf } from '../space/cubes.ts'

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
  const diagonal = boxDiagonal(coreBox(all))
  let s = size ?? diagonal / 70
  if (size === undefined)
    for (let k = 0; k < 3; k++) {
      const n = cubesOf(all, s).count
      if (n > 0.8 * target && n < 1.3 * target) break
      s *= Math.sqrt(n / target)
    }
  const xs: Float32Array[] = []
  const ns: Float32Array[] = []
  let guessed = false
  for (let i = 0; i < passes.length; i++) {
    // normals on a half as coarse picture: at this scale the shape matters, not the noise. A sparse pass needs its own neighbours for them, however fine the other side is
    const thin = thinPoints(passes[i].data, s / 2.5)
    const radius = Math.max(1.3 * s, 3 * pointSpacing(thin.xyz, 500))
    const r = await estimateNormals(thin, { radius }, subProgress(ctx, i / passes.length, (i + 1) / passes.length))
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
  return { ...thinBySide(join(xs), join(ns), s), size: s, diagonal, guessed }
}

/** One point a cube, the nearest to its middle; both faces of a sheet keep theirs, however thin it is. */
function thinBySide(xyz: Float32Array, normals: Float32Array, size: number): { xyz: Float32Array; normals: Float32Array } {
  // faces that look away from one another are moved apart before the cubes are laid
  const apart = f32(xyz.length)
  for (let i = 0; i < xyz.length; i++) apart[i] = xyz[i] + size * normals[i]
  const { of, count } = cubesOf(apart, size)
  const sum = new Float64Array(3 * count)
  const many = new Uint32Array(count)
  for (let i = 0; i < of.length; i++) {
    for (let k = 0; k < 3; k++) sum[3 * of[i] + k] += xyz[3 * i + k]
    many[of[i]]++
  }
  const best = new Float64Array(count).fill(Infinity)
  const pick = new Int32Array(count)
  for (let i = 0; i < of.length; i++) {
    const c = of[i]
    let d = 0
    for (let k = 0; k < 3; k++) d += (xyz[3 * i + k] - sum[3 * c + k] / many[c]) ** 2
    if (d < best[c]) {
      best[c] = d
      pick[c] = i
    }
  }
  const out = { xyz: f32(3 * count), normals: f32(3 * count) }
  for (let c = 0; c < count; c++)
    for (let k = 0; k < 3; k++) {
      out.xyz[3 * c + k] = xyz[3 * pick[c] + k]
      out.normals[3 * c + k] = normals[3 * pick[c] + k]
    }
  return out
}
