import type { Mesh } from '../shape/mesh.ts'
import { triangleAreas } from '../shape/mesh.ts'
import { boundingBox } from '../shape/points.ts'
import { topology, type Topology } from '../shape/topology.ts'

export interface MeshFacts {
  triangles: number
  vertices: number
  /** mm2 */
  area: number
  /** mm3, by signed tetrahedra (Gauss's theorem); meaningful for a closed mesh only */
  volume: number
  size: [number, number, number]
  box: Float64Array
  unmeasuredShare: number
  topology: Omit<Topology, 'componentOf'>
}

/** Size, area, volume and soundness of a mesh. Sums run about the mesh's own centre, so that far origins cost no digits. */
export function meshFacts(mesh: Mesh): MeshFacts {
  const box = boundingBox(mesh.vertices)
  const c = [0, 1, 2].map((k) => (box[k] + box[k + 3]) / 2)
  const { vertices: p, triangles: t } = mesh
  let six = 0
  for (let i = 0; i < t.length; i += 3) {
    const [a, b, d] = [3 * t[i], 3 * t[i + 1], 3 * t[i + 2]]
    const ax = p[a] - c[0],
      ay = p[a + 1] - c[1],
      az = p[a + 2] - c[2]
    const bx = p[b] - c[0],
      by = p[b + 1] - c[1],
      bz = p[b + 2] - c[2]
    const dx = p[d] - c[0],
      dy = p[d + 1] - c[1],
      dz = p[d + 2] - c[2]
    six += ax * (by * dz - bz * dy) - ay * (bx * dz - bz * dx) + az * (bx * dy - by * dx)
  }
  const areas = triangleAreas(mesh)
  let area = 0
  let invented = 0
  areas.forEach((v, i) => {
    area += v
    if (mesh.unmeasured?.[i]) invented += v
  })
  const { componentOf: _, ...topo } = topology(mesh)
  void _
  return {
    triangles: t.length / 3,
    vertices: p.length / 3,
    area,
    volume: six / 6,
    box,
    size: [box[3] - box[0], box[4] - box[1], box[5] - box[2]],
    unmeasuredShare: area ? invented / area : 0,
    topology: topo,
  }
}
