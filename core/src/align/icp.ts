import { fromRotationVector, multiply, orthonormalise, transformPoint, type Mat4 } from '../base/mat4.ts'
import { jacobiEigen } from '../base/eigen.ts'
import { cholesky, choleskySolve } from '../base/solve.ts'
import { nearestWithin, runsFor, type RowGrid } from '../space/rowgrid.ts'
import type { Cloud } from './cloud.ts'

const d2 = new Float64Array(1)

/**
 * Point-to-plane steps of a thinned cloud (Chen and Medioni 1991) with shrinking gates (mm), pairs only where the normals
 * agree, Geman-McClure weights. Rough by design: it feeds the joint adjustment. grid: over fixed.xyz.
 * held: motions that the pairs hold by less than this share of what they could are not made (0 to 1; default 0, all are). Along a face the averaged normals
 * beside its edges pull without end: an underside whose walls alone face those of the upper side slid 10 mm out of it, from a start 1 mm off.
 */
export function icp(
  moving: Pick<Cloud, 'xyz' | 'normals'>,
  fixed: Pick<Cloud, 'xyz' | 'normals'>,
  grid: RowGrid,
  start: Mat4,
  gates: number[],
  steps: number,
  held = 0,
): Mat4 {
  let pose: Mat4 = Float64Array.from(start)
  // which turns are held can be told about the middle only
  const pivot = held > 0 ? middleOf(moving.xyz) : moving.xyz.slice(0, 3)
  for (const gate of gates) {
    const runs = runsFor(grid, gate)
    for (let step = 0; step < steps; step++) {
      const h = new Float64Array(36)
      const g = new Float64Array(6)
      const row = new Float64Array(6)
      let used = 0
      const c = transformPoint(pose, pivot[0], pivot[1], pivot[2])
      for (let i = 0; i < moving.xyz.length; i += 3) {
        const [x, y, z] = transformPoint(pose, moving.xyz[i], moving.xyz[i + 1], moving.xyz[i + 2])
        const k = nearestWithin(grid, x, y, z, gate, runs, d2)
        if (k < 0) continue
        const o = 3 * grid.ids[k]
        const nx = fixed.normals[o],
          ny = fixed.normals[o + 1],
          nz = fixed.normals[o + 2]
        let agree = 0
        for (let r = 0; r < 3; r++)
          agree += fixed.normals[o + r] * (pose[4 * r] * moving.normals[i] + pose[4 * r + 1] * moving.normals[i + 1] + pose[4 * r + 2] * moving.normals[i + 2])
        if (agree < 0.75) continue
        const e = (x - fixed.xyz[o]) * nx + (y - fixed.xyz[o + 1]) * ny + (z - fixed.xyz[o + 2]) * nz
        const u = (2 * e) / gate
        const w = 1 / (1 + u * u) ** 2
        const px = x - c[0],
          py = y - c[1],
          pz = z - c[2]
        row[0] = py * nz - pz * ny
        row[1] = pz * nx - px * nz
        row[2] = px * ny - py * nx
        row[3] = nx
        row[4] = ny
        row[5] = nz
        used++
        for (let p = 0; p < 6; p++) {
          g[p] += w * row[p] * e
          for (let q = 0; q < 6; q++) h[6 * p + q] += w * row[p] * row[q]
        }
      }
      if (used < 12) break
      const s = held > 0 ? heldStep(h, g, held) : dampedStep(h, g, used)
      if (!s) break
      const d = fromRotationVector(-s[0], -s[1], -s[2])
      const moved = transformPoint(d, c[0], c[1], c[2])
      for (let r = 0; r < 3; r++) d[4 * r + 3] = c[r] - moved[r] - s[3 + r]
      pose = orthonormalise(multiply(d, pose))
      if (Math.hypot(s[3], s[4], s[5]) < 1e-4 && Math.hypot(s[0], s[1], s[2]) < 1e-6) break
    }
  }
  return pose
}

function dampedStep(h: Float64Array, g: Float64Array, used: number): Float64Array | null {
  for (let p = 0; p < 6; p++) h[7 * p] += 1e-4 * used * (p < 3 ? 1 : 1e-2) + 1e-12
  const l = cholesky(h, 6)
  return l ? choleskySolve(l, g, 6) : null
}

/** The step within what is held: turns about the middle of the pairs against shifts, each by the share of its own largest possible hold. */
function heldStep(h: Float64Array, g: Float64Array, held: number): Float64Array {
  // the pairs hold all shifts together by their weight
  const weight = h[21] + h[28] + h[35]
  const turns = h[0] + h[7] + h[14]
  // turns are measured at the lever at which they hold as much as the shifts
  const lever = Math.sqrt(turns / Math.max(weight, 1e-12))
  const scale = (p: number) => (p < 3 ? 1 / Math.max(lever, 1e-9) : 1)
  const m = Float64Array.from({ length: 36 }, (_, k) => (h[k] * scale(Math.floor(k / 6)) * scale(k % 6)) / weight)
  const { values, vectors } = jacobiEigen(m, 6)
  const s = new Float64Array(6)
  for (let e = 0; e < 6; e++) {
    if (values[e] < held) continue
    let along = 0
    for (let p = 0; p < 6; p++) along += (vectors[6 * p + e] * g[p] * scale(p)) / weight
    for (let p = 0; p < 6; p++) s[p] += (vectors[6 * p + e] * along * scale(p)) / values[e]
  }
  return s
}

function middleOf(xyz: Float32Array): [number, number, number] {
  const m: [number, number, number] = [0, 0, 0]
  for (let i = 0; i < xyz.length; i++) m[i % 3] += xyz[i]
  return [(3 * m[0]) / xyz.length, (3 * m[1]) / xyz.length, (3 * m[2]) / xyz.length]
}
