import { z } from 'zod'
import { OakError } from '../../base/errors.ts'
import { invertRigid, type Mat4 } from '../../base/mat4.ts'
import { makeMesh, transformMesh, type Mesh } from '../../shape/mesh.ts'
import type { Points } from '../../shape/points.ts'
import { boxSolid, cylinderSolid } from '../../shape/solids.ts'

const length = (least: number) => z.number().min(least).max(20_000)

/** A shape by its dimensions, for parts of which there is no file yet; mm, standing on z = 0. */
export const plainShape = z.discriminatedUnion('kind', [
  z.object({ kind: z.literal('box'), x: length(1), y: length(1), z: length(1) }),
  z.object({ kind: z.literal('plate'), x: length(1), y: length(1), z: length(0.1) }),
  z.object({ kind: z.literal('cylinder'), diameter: length(1), height: length(1) }),
])
export type PlainShape = z.output<typeof plainShape>

export function plainMesh(s: PlainShape): Mesh {
  return s.kind === 'cylinder' ? cylinderSolid(s.diameter, s.height) : boxSolid(s.x, s.y, s.z)
}

export const UPS = ['+z', '-z', '+x', '-x', '+y', '-y'] as const
export type Up = (typeof UPS)[number]

/** Pose that brings the direction that is up in the job to +z: job to planning axes. */
export function uprightPose(up: Up): Mat4 {
  const m: Record<Up, number[]> = {
    '+z': [1, 0, 0, 0, 1, 0, 0, 0, 1],
    '-z': [1, 0, 0, 0, -1, 0, 0, 0, -1],
    '+x': [0, 1, 0, 0, 0, 1, 1, 0, 0],
    '-x': [0, -1, 0, 0, 0, 1, -1, 0, 0],
    '+y': [0, 0, 1, 1, 0, 0, 0, 1, 0],
    '-y': [0, 0, 1, -1, 0, 0, 0, -1, 0],
  }
  const r = m[up]
  return Float64Array.of(r[0], r[1], r[2], 0, r[3], r[4], r[5], 0, r[6], r[7], r[8], 0, 0, 0, 0, 1)
}

export const backFrom = (up: Up): Mat4 => invertRigid(uprightPose(up))

/** A mesh in planning axes. */
export const upright = (mesh: Mesh, pose: ArrayLike<number>, up: Up): Mesh => {
  const m = transformMesh(mesh, pose)
  return up === '+z' ? m : transformMesh(m, uprightPose(up))
}

const MOST_TILES = 60_000

/**
 * A quick rough pass as a surface: a small tile at each place, facing as the points do. Enough to tell where there is room and what hides what.
 * Throws 'no-normals' for points that do not know which way they face.
 */
export function tiled(points: Points): Mesh {
  const { xyz, normals } = points
  if (!normals) throw new OakError('no-normals', 'The pass does not say which way its surface faces.', { remedy: 'Estimate its normals under Clean first.' })
  const step = 3
  const cells = new Map<string, number>()
  const chosen: number[] = []
  for (let i = 0; i < xyz.length / 3 && chosen.length < MOST_TILES; i++) {
    const key = `${Math.floor(xyz[3 * i] / step)} ${Math.floor(xyz[3 * i + 1] / step)} ${Math.floor(xyz[3 * i + 2] / step)}`
    if (cells.has(key)) continue
    cells.set(key, i)
    chosen.push(i)
  }
  const half = 0.8 * step
  const v = new Float32Array(12 * chosen.length)
  const t = new Uint32Array(6 * chosen.length)
  chosen.forEach((i, k) => {
    const n = [normals[3 * i], normals[3 * i + 1], normals[3 * i + 2]]
    const a = Math.abs(n[0]) < 0.7 ? [1, 0, 0] : [0, 1, 0]
    let u = [n[1] * a[2] - n[2] * a[1], n[2] * a[0] - n[0] * a[2], n[0] * a[1] - n[1] * a[0]]
    const l = Math.hypot(u[0], u[1], u[2]) || 1
    u = u.map((q) => (half * q) / l)
    const w = [n[1] * u[2] - n[2] * u[1], n[2] * u[0] - n[0] * u[2], n[0] * u[1] - n[1] * u[0]]
    ;[
      [-1, -1],
      [1, -1],
      [1, 1],
      [-1, 1],
    ].forEach(([p, q], c) => {
      for (let d = 0; d < 3; d++) v[12 * k + 3 * c + d] = xyz[3 * i + d] + p * u[d] + q * w[d]
    })
    t.set([4 * k, 4 * k + 1, 4 * k + 2, 4 * k, 4 * k + 2, 4 * k + 3], 6 * k)
  })
  return makeMesh({ vertices: v, triangles: t })
}
