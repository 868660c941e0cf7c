/** The CAD kernel, loaded once. Needs some 200 MB and half a second. */
import init from 'replicad-opencascadejs'
import * as replicad from 'replicad'
import { f32, u32 } from '@oak-gauge/core/base/arrays.ts'
import { makeMesh, type Mesh } from '@oak-gauge/core/shape/mesh.ts'
import { meshFromCorners } from '@oak-gauge/core/shape/weld.ts'

let ready: Promise<typeof replicad> | undefined

export function cad(): Promise<typeof replicad> {
  ready ??= (init as unknown as (o: object) => Promise<never>)({ print: () => undefined }).then((oc) => {
    replicad.setOC(oc)
    return replicad
  })
  return ready
}

interface Tessellated {
  vertices: number[]
  triangles: number[]
  faceGroups: { start: number; count: number; faceId: number }[]
}

/** Triangles of a solid, faces numbered from 0 in the kernel's order. chord: largest distance to the true surface, mm. */
export function tessellate(shape: { mesh(o: { tolerance: number; angularTolerance: number }): Tessellated }, chord: number, angleDeg = 5): Mesh {
  const m = shape.mesh({ tolerance: chord, angularTolerance: (angleDeg * Math.PI) / 180 })
  const corners = f32(3 * m.triangles.length)
  m.triangles.forEach((v, i) => {
    for (let k = 0; k < 3; k++) corners[3 * i + k] = m.vertices[3 * v + k]
  })
  const faces = u32(m.triangles.length / 3)
  m.faceGroups.forEach((g, number) => {
    for (let i = g.start / 3; i < (g.start + g.count) / 3; i++) faces[i] = number
  })
  return makeMesh(meshFromCorners(corners, faces, 1e-6).mesh)
}
