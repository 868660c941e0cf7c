import { triangleNormal, vertexTriangles } from '@oak-gauge/core/shape/mesh.ts'

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

/** Faces that meet at a vertex more sharply than this are shaded each for itself. */
const CREASE = Math.cos((40 * Math.PI) / 180)
/** A vertex is looked at closely when a face about it turns away from their mean by more than this. */
const SUSPECT = Math.cos((22 * Math.PI) / 180)

export interface Creased {
  positions: Float32Array
  normals: Float32Array
  index: Uint32Array
  /** vertex that each one came from */
  source: Uint32Array
}

/**
 * Smooth normals, but sharp ones along edges: there a vertex is drawn once for each corner, with the mean of those faces that lie
 * about as its own does. Without it the light would be smeared across every edge of the part.
 */
export function creased(v: Float32Array, t: Uint32Array): Creased {
  const smooth = normalsOf(v, t)
  const faces = new Float32Array(t.length)
  const sharp = new Uint8Array(v.length / 3)
  let more = 0
  for (let i = 0; i < t.length; i += 3) {
    faces.set(triangleNormal(v, t, i / 3), i)
    for (let k = 0; k < 3; k++) {
      const o = 3 * t[i + k]
      const along = smooth[o] * faces[i] + smooth[o + 1] * faces[i + 1] + smooth[o + 2] * faces[i + 2]
      const length = Math.sqrt(smooth[o] * smooth[o] + smooth[o + 1] * smooth[o + 1] + smooth[o + 2] * smooth[o + 2])
      if (along < SUSPECT * length) sharp[t[i + k]] = 1
    }
  }
  for (let i = 0; i < t.length; i++) if (sharp[t[i]]) more++
  const n = v.length / 3
  const positions = new Float32Array(3 * (n + more))
  const normals = new Float32Array(positions.length)
  const source = new Uint32Array(n + more)
  positions.set(v)
  normals.set(smooth)
  for (let i = 0; i < n; i++) source[i] = i
  if (!more) return { positions, normals, index: t, source }
  const { start, list } = vertexTriangles(t, n)
  const index = t.slice()
  let at = n
  for (let i = 0; i < t.length; i++) {
    const from = t[i]
    if (!sharp[from]) continue
    const own = i - (i % 3)
    for (let k = start[from]; k < start[from + 1]; k++) {
      const f = 3 * list[k]
      if (faces[own] * faces[f] + faces[own + 1] * faces[f + 1] + faces[own + 2] * faces[f + 2] < CREASE) continue
      for (let d = 0; d < 3; d++) normals[3 * at + d] += faces[f + d]
    }
    for (let d = 0; d < 3; d++) positions[3 * at + d] = v[3 * from + d]
    source[at] = from
    index[i] = at++
  }
  return { positions, normals, index, source }
}
