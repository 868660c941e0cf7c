/** Smooth normals of an indexed mesh, by area. */
export function normalsOf(v: Float32Array, t: Uint32Array): Float32Array {
  const n = new Float32Array(v.length)
  for (let i = 0; i < t.length; i += 3) {
    const a = 3 * t[i]
    const b = 3 * t[i + 1]
    const c = 3 * t[i + 2]
    const ux = v[b] - v[a],
      uy = v[b + 1] - v[a + 1],
      uz = v[b + 2] - v[a + 2]
    const wx = v[c] - v[a],
      wy = v[c + 1] - v[a + 1],
      wz = v[c + 2] - v[a + 2]
    const x = uy * wz - uz * wy,
      y = uz * wx - ux * wz,
      z = ux * wy - uy * wx
    for (const k of [a, b, c]) {
      n[k] += x
      n[k + 1] += y
      n[k + 2] += z
    }
  }
  return n
}

/** Triangles with corners of their own, so that each can carry the number of its face. */
export function seamed(v: Float32Array, t: Uint32Array, faceOf: Uint32Array | undefined): { positions: Float32Array; faces: Float32Array } {
  const positions = new Float32Array(3 * t.length)
  const faces = new Float32Array(t.length)
  for (let i = 0; i < t.length; i++) {
    positions[3 * i] = v[3 * t[i]]
    positions[3 * i + 1] = v[3 * t[i] + 1]
    positions[3 * i + 2] = v[3 * t[i] + 2]
    faces[i] = faceOf ? faceOf[(i / 3) | 0] : -1
  }
  return { positions, faces }
}
