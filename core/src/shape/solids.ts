import { makeMesh, type Mesh } from './mesh.ts'

/** Box on the plane z = 0, middle at the origin, mm. Twelve triangles, one face number a side. */
export function boxSolid(x: number, y: number, z: number): Mesh {
  const v = Float32Array.from([0, 1, 2, 3, 4, 5, 6, 7].flatMap((i) => [((i & 1) - 0.5) * x, (((i >> 1) & 1) - 0.5) * y, (i >> 2) * z]))
  const t = [
    [0, 2, 3, 1],
    [4, 5, 7, 6],
    [0, 1, 5, 4],
    [2, 6, 7, 3],
    [0, 4, 6, 2],
    [1, 3, 7, 5],
  ].flatMap(([a, b, c, d]) => [a, b, c, a, c, d])
  return makeMesh({ vertices: v, triangles: Uint32Array.from(t), faces: Uint32Array.from({ length: 12 }, (_, i) => i >> 1) })
}

/** Upright cylinder on the plane z = 0, mm; faces: 0 bottom, 1 top, 2 round. */
export function cylinderSolid(diameter: number, height: number, sides = 96): Mesh {
  const v: number[] = [0, 0, 0, 0, 0, height]
  for (let i = 0; i < sides; i++) {
    const a = (2 * Math.PI * i) / sides
    v.push((diameter / 2) * Math.cos(a), (diameter / 2) * Math.sin(a), 0, (diameter / 2) * Math.cos(a), (diameter / 2) * Math.sin(a), height)
  }
  const t: number[] = []
  const faces: number[] = []
  for (let i = 0; i < sides; i++) {
    const a = 2 + 2 * i
    const b = 2 + 2 * ((i + 1) % sides)
    t.push(0, b, a, 1, a + 1, b + 1, a, b, b + 1, a, b + 1, a + 1)
    faces.push(0, 1, 2, 2)
  }
  return makeMesh({ vertices: Float32Array.from(v), triangles: Uint32Array.from(t), faces: Uint32Array.from(faces) })
}
