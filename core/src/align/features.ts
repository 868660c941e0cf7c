import { f32 } from '../base/arrays.ts'
import { defineKernel, type RunContext } from '../base/run.ts'
import { buildRowGrid, rowRuns, runsFor, type RowGrid } from '../space/rowgrid.ts'

export const BINS = 33

interface SpfhArgs {
  grid: RowGrid
  normals: Float32Array
  radius: number
  out: Float32Array
}

/** Simplified histogram of each point (sorted order): three angles between its normal and its neighbours' (Rusu 2009). */
const spfh = defineKernel('align.spfh', (a: SpfhArgs, start: number, end: number) => {
  const { grid, normals, radius, out } = a
  const p = grid.xyz
  const runs = runsFor(grid, radius)
  const r2 = radius * radius
  for (let i = start; i < end; i++) {
    const m = rowRuns(grid, p[3 * i], p[3 * i + 1], p[3 * i + 2], radius, runs)
    let n = 0
    for (let k = 0; k < m; k++)
      for (let j = runs[2 * k]; j < runs[2 * k + 1]; j++) {
        if (j === i) continue
        let dx = p[3 * j] - p[3 * i]
        let dy = p[3 * j + 1] - p[3 * i + 1]
        let dz = p[3 * j + 2] - p[3 * i + 2]
        const d2 = dx * dx + dy * dy + dz * dz
        if (d2 > r2 || d2 === 0) continue
        const l = 1 / Math.sqrt(d2)
        dx *= l
        dy *= l
        dz *= l
        let s = i
        let t = j
        // source is the one whose normal makes the smaller angle with the line
        const ci = normals[3 * i] * dx + normals[3 * i + 1] * dy + normals[3 * i + 2] * dz
        const cj = normals[3 * j] * dx + normals[3 * j + 1] * dy + normals[3 * j + 2] * dz
        let phi = ci
        if (Math.abs(ci) < Math.abs(cj)) {
          s = j
          t = i
          dx = -dx
          dy = -dy
          dz = -dz
          phi = -cj
        }
        const ux = normals[3 * s], uy = normals[3 * s + 1], uz = normals[3 * s + 2]
        let vx = dy * uz - dz * uy
        let vy = dz * ux - dx * uz
        let vz = dx * uy - dy * ux
        const vl = Math.sqrt(vx * vx + vy * vy + vz * vz)
        if (vl < 1e-9) continue
        vx /= vl
        vy /= vl
        vz /= vl
        const wx = uy * vz - uz * vy, wy = uz * vx - ux * vz, wz = ux * vy - uy * vx
        const tx = normals[3 * t], ty = normals[3 * t + 1], tz = normals[3 * t + 2]
        const alpha = vx * tx + vy * ty + vz * tz
        const theta = Math.atan2(wx * tx + wy * ty + wz * tz, ux * tx + uy * ty + uz * tz)
        const o = BINS * i
        out[o + bin((alpha + 1) / 2)]++
        out[o + 11 + bin((phi + 1) / 2)]++
        out[o + 22 + bin((theta + Math.PI) / (2 * Math.PI))]++
        n++
      }
    if (n) for (let b = 0; b < BINS; b++) out[BINS * i + b] *= 100 / n
  }
})

const bin = (v: number) => Math.max(0, Math.min(10, Math.floor(v * 11)))

const fpfh = defineKernel('align.fpfh', (a: SpfhArgs & { simple: Float32Array }, start: number, end: number) => {
  const { grid, radius, out, simple } = a
  const p = grid.xyz
  const runs = runsFor(grid, radius)
  for (let i = start; i < end; i++) {
    const m = rowRuns(grid, p[3 * i], p[3 * i + 1], p[3 * i + 2], radius, runs)
    const o = BINS * i
    for (let k = 0; k < m; k++)
      for (let j = runs[2 * k]; j < runs[2 * k + 1]; j++) {
        const d2 = (p[3 * j] - p[3 * i]) ** 2 + (p[3 * j + 1] - p[3 * i + 1]) ** 2 + (p[3 * j + 2] - p[3 * i + 2]) ** 2
        if (j === i || d2 > radius * radius || d2 === 0) continue
        const w = 1 / Math.sqrt(d2)
        for (let b = 0; b < BINS; b++) out[o + b] += w * simple[BINS * j + b]
      }
    for (let part = 0; part < 3; part++) {
      let s = 0
      for (let b = 0; b < 11; b++) s += out[o + 11 * part + b]
      const f = s > 0 ? 100 / s : 0
      for (let b = 0; b < 11; b++) out[o + 11 * part + b] = out[o + 11 * part + b] * f + simple[o + 11 * part + b]
    }
  }
})

/** Fast point feature histograms (Rusu, Blodow and Beetz 2009) of 3N points with normals; 33 numbers a point, input order. */
export async function pointFeatures(xyz: Float32Array, normals: Float32Array, radius: number, ctx: RunContext): Promise<Float32Array> {
  const n = xyz.length / 3
  const grid = buildRowGrid(xyz, radius)
  const sorted = f32(3 * n)
  for (let i = 0; i < n; i++) for (let k = 0; k < 3; k++) sorted[3 * i + k] = normals[3 * grid.ids[i] + k]
  const simple = f32(BINS * n)
  const full = f32(BINS * n)
  await ctx.parallel.map(spfh, { grid, normals: sorted, radius, out: simple }, n, 256, ctx)
  await ctx.parallel.map(fpfh, { grid, normals: sorted, radius, simple, out: full }, n, 256, ctx)
  const out = f32(BINS * n)
  for (let i = 0; i < n; i++) out.set(full.subarray(BINS * i, BINS * i + BINS), BINS * grid.ids[i])
  return out
}

interface MatchArgs {
  a: Float32Array
  b: Float32Array
  k: number
  out: Int32Array
}

const nearestFeatures = defineKernel('align.features.match', (m: MatchArgs, start: number, end: number) => {
  const nb = m.b.length / BINS
  const best = new Float64Array(m.k)
  for (let i = start; i < end; i++) {
    best.fill(Infinity)
    const o = BINS * i
    for (let j = 0; j < nb; j++) {
      const q = BINS * j
      let d = 0
      for (let c = 0; c < BINS; c++) {
        const e = m.a[o + c] - m.b[q + c]
        d += e * e
        if (d > best[m.k - 1]) break
      }
      if (d >= best[m.k - 1]) continue
      let at = m.k - 1
      while (at > 0 && best[at - 1] > d) {
        best[at] = best[at - 1]
        m.out[m.k * i + at] = m.out[m.k * i + at - 1]
        at--
      }
      best[at] = d
      m.out[m.k * i + at] = j
    }
  }
})

/** k most alike of b for every feature of a, by exhaustive search. */
export async function matchFeatures(a: Float32Array, b: Float32Array, k: number, ctx: RunContext): Promise<Int32Array> {
  const n = a.length / BINS
  const out = new Int32Array(f32(n * k).buffer).fill(-1)
  await ctx.parallel.map(nearestFeatures, { a, b, k, out }, n, 128, ctx)
  return out
}
