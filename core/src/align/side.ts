import type { RunContext } from '../base/run.ts'
import { estimateNormals } from '../shape/normals.ts'
import type { Points } from '../shape/points.ts'

/**
 * Which side of its surface a pass has seen. Surface has two sides: the faces of a thin sheet must never be laid on one another, however near
 * they are. Plain data, so that it passes to other threads.
 */
export interface Side {
  /** where the scanner stood, in the pass's coordinates */
  viewpoint: readonly [number, number, number] | null
  /** 3N out of the material, in the order of the points; where there is no viewpoint */
  normals: Float32Array | null
  /** normals that nobody measured */
  guessed: boolean
}

/** From the viewpoint where there is one, else from the normals that came with the points, else guessed (shape/orient.ts). */
export async function sideOf(points: Points, ctx: RunContext): Promise<Side> {
  if (points.viewpoint) return { viewpoint: points.viewpoint, normals: null, guessed: false }
  if (points.normals) return { viewpoint: null, normals: points.normals, guessed: false }
  const r = await estimateNormals(points, {}, ctx)
  return { viewpoint: null, normals: r.points.normals, guessed: r.orientation === 'guessed' }
}

/** 1 when (nx, ny, nz) points out of the material at a place, else -1. id: of the nearest point, in the order of the points. */
export function signAt(side: Side, x: number, y: number, z: number, nx: number, ny: number, nz: number, id: number): number {
  const v = side.viewpoint
  if (v) return (v[0] - x) * nx + (v[1] - y) * ny + (v[2] - z) * nz < 0 ? -1 : 1
  const n = side.normals
  if (n) return n[3 * id] * nx + n[3 * id + 1] * ny + n[3 * id + 2] * nz < 0 ? -1 : 1
  return 1
}
