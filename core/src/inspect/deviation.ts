import { f32, u8 } from '../base/arrays.ts'
import { defineKernel, type RunContext } from '../base/run.ts'
import { mortonOrder } from '../space/morton.ts'
import { closestOnTriangle, closestTriangles, newClosest } from '../space/closest.ts'
import { prepareSignedDistance, sideOf, type SignedDistance } from '../space/signed.ts'
import type { Mesh } from '../shape/mesh.ts'

interface DeviationArgs extends SignedDistance {
  xyz: Float32Array
  order: Uint32Array
  maxDistance: number
  values: Float32Array
  beyond: Uint8Array
  faces: Uint32Array
}

const deviationKernel = defineKernel('inspect.deviation', (a: DeviationArgs, start: number, end: number) => {
  const best = newClosest()
  const border = new Uint8Array(1)
  const nearest = closestTriangles(a.search, a.xyz, a.order, start, end, a.maxDistance)
  for (let k = start; k < end; k++) {
    const i = a.order[k]
    const t = nearest[k - start]
    if (t < 0) {
      a.values[i] = NaN
      continue
    }
    const x = a.xyz[3 * i]
    const y = a.xyz[3 * i + 1]
    const z = a.xyz[3 * i + 2]
    closestOnTriangle(a.search.corners, t, x, y, z, best)
    a.values[i] = Math.sqrt(best.d2) * sideOf(a, x, y, z, best, border)
    a.beyond[i] = border[0]
    a.faces[i] = a.search.ids[t]
  }
})

export interface Deviation {
  /** N signed distances, mm, plus = outside the nominal (material extra); NaN beyond maxDistance */
  values: Float32Array
  /** N: 1 where the nearest place is an open edge of the nominal, so that the distance is not across a surface */
  beyond: Uint8Array
  /** N: triangle of the nominal that is nearest */
  triangle: Uint32Array
}

/**
 * Exact signed distance of points (3N, mm) to a triangle mesh: closest point of any triangle, sign by angle-weighted
 * pseudo-normals (Baerentzen and Aanaes 2005). Queries run along a Z curve, each starting from its neighbour's answer.
 */
export async function deviationTo(nominal: Mesh | SignedDistance, xyz: Float32Array, maxDistance: number, ctx: RunContext): Promise<Deviation> {
  const prepared = 'search' in nominal ? nominal : prepareSignedDistance(nominal)
  const n = xyz.length / 3
  const values = f32(n)
  const beyond = u8(n)
  const triangle = new Uint32Array(f32(n).buffer)
  const order = new Uint32Array(f32(n).buffer)
  order.set(mortonOrder(xyz))
  ctx.progress(0.2, 'distances')
  await ctx.parallel.map(deviationKernel, { ...prepared, xyz, order, maxDistance, values, beyond, faces: triangle }, n, 16384, ctx, (d) =>
    ctx.progress(0.2 + 0.8 * d),
  )
  return { values, beyond, triangle }
}
