import { f32 } from '../base/arrays.ts'
import { seeded } from '../base/random.ts'
import { checkCancelled, quietContext, type RunContext } from '../base/run.ts'
import { triangleAreas, type Mesh } from './mesh.ts'
import { makePoints, type Points } from './points.ts'

/** Points spread evenly by area over a mesh, with the triangles' normals: stratified, so that area is matched to one point. */
export function sampleMesh(mesh: Mesh, count: number, seed = 1, ctx: RunContext = quietContext): Points & { normals: Float32Array; triangle: Uint32Array } {
  const areas = triangleAreas(mesh)
  const total = areas.reduce((s, a) => s + a, 0)
  const random = seeded(seed)
  const xyz = f32(3 * count)
  const normals = f32(3 * count)
  const triangle = new Uint32Array(count)
  const { vertices: p, triangles: t } = mesh
  let k = 0
  let before = 0
  for (let i = 0; i < count; i++) {
    if ((i & 0xfffff) === 0) {
      checkCancelled(ctx)
      ctx.progress(i / count)
    }
    const at = ((i + random.next()) / count) * total
    while (k < areas.length - 1 && before + areas[k] < at) before += areas[k++]
    const s = Math.sqrt(random.next())
    const r = random.next()
    const [u, v, w] = [1 - s, s * (1 - r), s * r]
    const [a, b, c] = [3 * t[3 * k], 3 * t[3 * k + 1], 3 * t[3 * k + 2]]
    for (let d = 0; d < 3; d++) xyz[3 * i + d] = u * p[a + d] + v * p[b + d] + w * p[c + d]
    const ux = p[b] - p[a],
      uy = p[b + 1] - p[a + 1],
      uz = p[b + 2] - p[a + 2]
    const wx = p[c] - p[a],
      wy = p[c + 1] - p[a + 1],
      wz = p[c + 2] - p[a + 2]
    const n = [uy * wz - uz * wy, uz * wx - ux * wz, ux * wy - uy * wx]
    const l = Math.hypot(n[0], n[1], n[2]) || 1
    for (let d = 0; d < 3; d++) normals[3 * i + d] = n[d] / l
    triangle[i] = k
  }
  return { ...makePoints({ xyz, normals }), normals, triangle }
}
