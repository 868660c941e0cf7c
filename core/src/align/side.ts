import type { RunContext } from '../base/run.ts'
import { estimateNormals } from '../shape/normals.ts'
import type { Placed, Points } from '../shape/points.ts'
import { reconcileSides, type Sided } from '../shape/reconcile.ts'

/**
 * Which side of its surface a pass has seen. Surface has two sides: the faces of a thin sheet must never be laid on one another, however near
 * they are. Plain data, so that it passes to other threads.
 */
export interface Side {
  /** where the scanner stood, in the pass's coordinates */
  viewpoint: readonly [number, number, number] | null
  /** 3N out of the material, in the order of the points; where there is no viewpoint */
  normals: Float32Array | null
  /** of normals that nobody measured: the piece of each point, whose side was guessed as one */
  pieces: Int32Array | null
}

/** From the viewpoint where there is one, else from the normals that came with the points, else guessed (shape/orient.ts). */
export async function sideOf(points: Points, ctx: RunContext): Promise<Side> {
  if (points.viewpoint) return { viewpoint: points.viewpoint, normals: null, pieces: null }
  if (points.normals) return { viewpoint: null, normals: points.normals, pieces: null }
  const r = await estimateNormals(points, {}, ctx)
  return { viewpoint: null, normals: r.points.normals, pieces: r.pieces }
}

/**
 * Sides of all passes. Where some were guessed they are made to agree with the others, as far as the passes lie together by about two point spacings already.
 */
export async function sidesOf(passes: Placed<Points>[], spacing: number, ctx: RunContext): Promise<Side[]> {
  const sides: Side[] = []
  for (const { data } of passes) sides.push(await sideOf(data, ctx))
  if (sides.some((s) => s.pieces)) {
    const sided: Sided[] = []
    for (const [i, { data, pose }] of passes.entries())
      sided.push({ xyz: data.xyz, pose, pieces: sides[i].pieces, normals: sides[i].normals ?? (await estimateNormals(data, {}, ctx)).points.normals })
    reconcileSides(sided, 2 * spacing)
  }
  return sides
}

/** 1 when (nx, ny, nz) points out of the material at a place, else -1. id: of the nearest point, in the order of the points. */
export function signAt(side: Side, x: number, y: number, z: number, nx: number, ny: number, nz: number, id: number): number {
  const v = side.viewpoint
  if (v) return (v[0] - x) * nx + (v[1] - y) * ny + (v[2] - z) * nz < 0 ? -1 : 1
  const n = side.normals
  if (n) return n[3 * id] * nx + n[3 * id + 1] * ny + n[3 * id + 2] * nz < 0 ? -1 : 1
  return 1
}
