import { f32 } from '../base/arrays.ts'
import { defineKernel } from '../base/run.ts'
import { leafStart, type Bvh } from './bvh.ts'

/** Per node of the BVH: area-weighted normal (3), centroid (3), radius: the far field of its triangles. */
export interface Winding {
  readonly bvh: Bvh
  readonly far: Float32Array
}

export function prepareWinding(bvh: Bvh): Winding {
  const { levels, corners: c, ids } = bvh
  const width = 2 ** levels
  const nodes = 2 * width - 1
  const far = f32(7 * nodes)
  const area = new Float64Array(nodes)
  for (let l = 0; l < width; l++) {
    const o = 7 * (width - 1 + l)
    for (let i = leafStart(ids.length, width, l); i < leafStart(ids.length, width, l + 1); i++) {
      const k = 9 * i
      const ux = c[k + 3] - c[k],
        uy = c[k + 4] - c[k + 1],
        uz = c[k + 5] - c[k + 2]
      const vx = c[k + 6] - c[k],
        vy = c[k + 7] - c[k + 1],
        vz = c[k + 8] - c[k + 2]
      const nx = (uy * vz - uz * vy) / 2,
        ny = (uz * vx - ux * vz) / 2,
        nz = (ux * vy - uy * vx) / 2
      const a = Math.hypot(nx, ny, nz)
      far[o] += nx
      far[o + 1] += ny
      far[o + 2] += nz
      for (let d = 0; d < 3; d++) far[o + 3 + d] += (a * (c[k + d] + c[k + 3 + d] + c[k + 6 + d])) / 3
      area[width - 1 + l] += a
    }
  }
  for (let n = width - 2; n >= 0; n--) {
    area[n] = area[2 * n + 1] + area[2 * n + 2]
    for (let d = 0; d < 6; d++) far[7 * n + d] = far[7 * (2 * n + 1) + d] + far[7 * (2 * n + 2) + d]
  }
  for (let n = 0; n < nodes; n++) {
    if (area[n] > 0) for (let d = 3; d < 6; d++) far[7 * n + d] /= area[n]
    const b = 6 * n
    let r = 0
    for (let d = 0; d < 3; d++) r += Math.max(bvh.boxes[b + 3 + d] - far[7 * n + 3 + d], far[7 * n + 3 + d] - bvh.boxes[b + d]) ** 2
    far[7 * n + 6] = area[n] > 0 ? Math.sqrt(r) : 0
  }
  return { bvh, far }
}

const stack = new Int32Array(128)

/**
 * Generalised winding number of an oriented, possibly open mesh (Jacobson 2013), far groups by their dipole
 * (Barill 2018, first order): about 1 inside, 0 outside, between where the surface is missing.
 * accuracy: a group is far when its distance is over so many radii; on a ball of 2256 triangles the errors
 * are up to 0.03 with 2, 0.009 with 3, 0.006 with 4.
 */
export function windingNumber(w: Winding, x: number, y: number, z: number, accuracy = 2): number {
  const { bvh, far } = w
  const { corners: c, ids, levels } = bvh
  const width = 2 ** levels
  const leaf = width - 1
  let sum = 0
  let top = 0
  stack[top++] = 0
  while (top > 0) {
    const n = stack[--top]
    const o = 7 * n
    const dx = far[o + 3] - x
    const dy = far[o + 4] - y
    const dz = far[o + 5] - z
    const d2 = dx * dx + dy * dy + dz * dz
    const r = accuracy * far[o + 6]
    if (d2 > r * r) {
      sum += (dx * far[o] + dy * far[o + 1] + dz * far[o + 2]) / (d2 * Math.sqrt(d2))
      continue
    }
    if (n < leaf) {
      stack[top++] = 2 * n + 1
      stack[top++] = 2 * n + 2
      continue
    }
    const end = leafStart(ids.length, width, n - leaf + 1)
    for (let i = leafStart(ids.length, width, n - leaf); i < end; i++) {
      // solid angle (Van Oosterom and Strackee 1983)
      const k = 9 * i
      const ax = c[k] - x,
        ay = c[k + 1] - y,
        az = c[k + 2] - z
      const bx = c[k + 3] - x,
        by = c[k + 4] - y,
        bz = c[k + 5] - z
      const cx = c[k + 6] - x,
        cy = c[k + 7] - y,
        cz = c[k + 8] - z
      const la = Math.sqrt(ax * ax + ay * ay + az * az)
      const lb = Math.sqrt(bx * bx + by * by + bz * bz)
      const lc = Math.sqrt(cx * cx + cy * cy + cz * cz)
      const det = ax * (by * cz - bz * cy) - ay * (bx * cz - bz * cx) + az * (bx * cy - by * cx)
      const den = la * lb * lc + (ax * bx + ay * by + az * bz) * lc + (bx * cx + by * cy + bz * cz) * la + (cx * ax + cy * ay + cz * az) * lb
      sum += 2 * Math.atan2(det, den)
    }
  }
  return sum / (4 * Math.PI)
}

interface WindingArgs extends Winding {
  xyz: Float32Array
  out: Float32Array
}

export const windingKernel = defineKernel('space.winding', (a: WindingArgs, start: number, end: number) => {
  for (let i = start; i < end; i++) a.out[i] = windingNumber(a, a.xyz[3 * i], a.xyz[3 * i + 1], a.xyz[3 * i + 2])
})
