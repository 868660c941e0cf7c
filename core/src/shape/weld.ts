import { f32, u32 } from '../base/arrays.ts'
import { makeMesh, type Mesh } from './mesh.ts'

/**
 * Joins corners that lie at the very same place, as files without shared vertices (STL) need it.
 * Exact comparison: two corners a rounding apart stay two, since a tolerance would close real slits.
 * `tolerance` > 0 rounds coordinates to that grid first (used for CAD faces whose seams differ in the last bit).
 * Triangles that lose a corner that way are dropped and counted.
 */
export function weld(corners: Float32Array, tolerance = 0): { vertices: Float32Array; index: Uint32Array } {
  const n = corners.length / 3
  let size = 1
  while (size < 2 * n) size *= 2
  const table = u32(size)
  const index = u32(n)
  const out = f32(corners.length)
  const bits = new Int32Array(3)
  const asFloat = new Float32Array(bits.buffer)
  const inv = tolerance > 0 ? 1 / tolerance : 0
  const rounded = inv > 0 ? f32(corners.length) : corners
  if (inv > 0) for (let i = 0; i < corners.length; i++) rounded[i] = Math.round(corners[i] * inv) * tolerance
  let count = 0
  for (let i = 0; i < n; i++) {
    const x = rounded[3 * i] + 0 // -0 becomes 0
    const y = rounded[3 * i + 1] + 0
    const z = rounded[3 * i + 2] + 0
    asFloat[0] = x
    asFloat[1] = y
    asFloat[2] = z
    let h = Math.imul(bits[0], 0x9e3779b1) ^ Math.imul(bits[1], 0x85ebca77) ^ Math.imul(bits[2], 0xc2b2ae3d)
    h ^= h >>> 15
    h = Math.imul(h, 0x2c1b3c6d)
    h ^= h >>> 13
    let s = h & (size - 1)
    for (;;) {
      const e = table[s]
      if (e === 0) {
        table[s] = count + 1
        out[3 * count] = x
        out[3 * count + 1] = y
        out[3 * count + 2] = z
        index[i] = count++
        break
      }
      const o = 3 * (e - 1)
      if (out[o] === x && out[o + 1] === y && out[o + 2] === z) {
        index[i] = e - 1
        break
      }
      s = (s + 1) & (size - 1)
    }
  }
  const vertices = f32(3 * count)
  vertices.set(out.subarray(0, 3 * count))
  return { vertices, index }
}

/** Mesh from three corners a triangle (9T). `dropped` counts triangles that had two corners in one place. */
export function meshFromCorners(corners: Float32Array, faces?: Uint32Array, tolerance = 0): { mesh: Mesh; dropped: number } {
  const { vertices, index } = weld(corners, tolerance)
  let n = 0
  for (let i = 0; i < index.length; i += 3) if (index[i] !== index[i + 1] && index[i + 1] !== index[i + 2] && index[i] !== index[i + 2]) n++
  const triangles = u32(3 * n)
  const keptFaces = faces && u32(n)
  for (let i = 0, o = 0; i < index.length; i += 3)
    if (index[i] !== index[i + 1] && index[i + 1] !== index[i + 2] && index[i] !== index[i + 2]) {
      triangles[3 * o] = index[i]
      triangles[3 * o + 1] = index[i + 1]
      triangles[3 * o + 2] = index[i + 2]
      if (keptFaces && faces) keptFaces[o] = faces[i / 3]
      o++
    }
  return { mesh: makeMesh({ vertices, triangles, faces: keptFaces }), dropped: index.length / 3 - n }
}
