import { fromRotationVector, multiply, translation } from '../src/base/mat4.ts'
import { makeMesh, transformMesh, type Mesh } from '../src/shape/mesh.ts'
import { boxMesh } from './help.ts'

/** Moved. */
export const at = (m: Mesh, x: number, y: number, z: number) => transformMesh(m, Float64Array.of(1, 0, 0, x, 0, 1, 0, y, 0, 0, 1, z, 0, 0, 0, 1))
export function together(list: Mesh[]): Mesh {
  const vertices = list.flatMap((m) => [...m.vertices])
  let first = 0
  const triangles = list.flatMap((m) => {
    const from = first
    first += m.vertices.length / 3
    return Array.from(m.triangles, (v) => v + from)
  })
  return makeMesh({ vertices: Float32Array.from(vertices), triangles: Uint32Array.from(triangles) })
}
/** A bar lying on one of its edges: turned by a half right angle about its length, then about z */
export const roof = (length: number, width: number, degrees: number, x: number, y: number) => {
  const z = multiply(translation(x, y, 0), fromRotationVector(0, 0, (degrees * Math.PI) / 180))
  return transformMesh(
    boxMesh(length, width, width),
    multiply(z, multiply(fromRotationVector(Math.PI / 4, 0, 0), translation(-length / 2, -width / 2, -width / 2))),
  )
}
/** A tray with bars that lie askew: its shape holds in all motions, from everywhere above. */
export const tray = together([at(boxMesh(160, 110, 8), -80, -55, -8), roof(70, 26, 20, -35, 20), roof(50, 20, 100, 35, 15), roof(60, 16, 55, 0, -30)])
