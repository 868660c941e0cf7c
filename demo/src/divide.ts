import { f32, u32 } from '@oak-gauge/core/base/arrays.ts'
import { makeMesh, type Mesh } from '@oak-gauge/core/shape/mesh.ts'

/** Splits edges longer than `longest` (mm, may depend on the place) at their middles, in rounds, until none is left: flat faces become fine enough to be bent. Faces are not kept. */
export function divide(mesh: Mesh, longest: number | ((x: number, y: number, z: number) => number)): Mesh {
  const limit = typeof longest === 'number' ? () => longest : longest
  let v = [...mesh.vertices]
  let t = [...mesh.triangles]
  for (let round = 0; round < 12; round++) {
    const middle = new Map<number, number>()
    const n = v.length / 3
    const far = (a: number, b: number) => {
      const [dx, dy, dz] = [0, 1, 2].map((k) => v[3 * a + k] - v[3 * b + k])
      return Math.hypot(dx, dy, dz) > limit(v[3 * a] - dx / 2, v[3 * a + 1] - dy / 2, v[3 * a + 2] - dz / 2)
    }
    const split = (a: number, b: number): number => {
      if (!far(a, b)) return -1
      const key = Math.min(a, b) * n + Math.max(a, b)
      let m = middle.get(key)
      if (m === undefined) {
        m = v.length / 3
        middle.set(key, m)
        v.push((v[3 * a] + v[3 * b]) / 2, (v[3 * a + 1] + v[3 * b + 1]) / 2, (v[3 * a + 2] + v[3 * b + 2]) / 2)
      }
      return m
    }
    const out: number[] = []
    for (let i = 0; i < t.length; i += 3) {
      let [a, b, c] = [t[i], t[i + 1], t[i + 2]]
      let m = [split(a, b), split(b, c), split(c, a)]
      const count = m.filter((x) => x >= 0).length
      // turn it so that the cases are few: one split on ab, two on ab and bc
      for (let k = 0; k < 2 && ((count === 1 && m[0] < 0) || (count === 2 && m[2] >= 0)); k++) {
        ;[a, b, c] = [b, c, a]
        m = [m[1], m[2], m[0]]
      }
      if (count === 0) out.push(a, b, c)
      else if (count === 1) out.push(a, m[0], c, m[0], b, c)
      else if (count === 2) out.push(a, m[0], c, m[0], b, m[1], m[0], m[1], c)
      else out.push(a, m[0], m[2], m[0], b, m[1], m[2], m[1], c, m[0], m[1], m[2])
    }
    t = out
    if (middle.size === 0) break
  }
  const vertices = f32(v.length)
  vertices.set(v)
  const triangles = u32(t.length)
  triangles.set(t)
  v = []
  return makeMesh({ vertices, triangles })
}

/** Several meshes in one. */
export function together(...meshes: Mesh[]): Mesh {
  const vertices = f32(meshes.reduce((s, m) => s + m.vertices.length, 0))
  const triangles = u32(meshes.reduce((s, m) => s + m.triangles.length, 0))
  let [v, t] = [0, 0]
  for (const m of meshes) {
    vertices.set(m.vertices, v)
    for (let i = 0; i < m.triangles.length; i++) triangles[t + i] = m.triangles[i] + v / 3
    v += m.vertices.length
    t += m.triangles.length
  }
  return makeMesh({ vertices, triangles })
}

/** Box from one corner to the other, outside outwards. */
export function box(a: [number, number, number], b: [number, number, number]): Mesh {
  const vertices = f32(24)
  for (let c = 0; c < 8; c++) vertices.set([c & 1 ? b[0] : a[0], c & 2 ? b[1] : a[1], c & 4 ? b[2] : a[2]], 3 * c)
  const triangles = u32(36)
  const quads = [
    [0, 4, 6, 2],
    [1, 3, 7, 5],
    [0, 1, 5, 4],
    [2, 6, 7, 3],
    [0, 2, 3, 1],
    [4, 5, 7, 6],
  ]
  quads.forEach((q, i) => triangles.set([q[0], q[1], q[2], q[0], q[2], q[3]], 6 * i))
  return makeMesh({ vertices, triangles })
}
