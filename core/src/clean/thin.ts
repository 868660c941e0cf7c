import { f32, u8 } from '../base/arrays.ts'
import { makePoints, type Points } from '../shape/points.ts'

/**
 * One point for each cube of `size` mm: the measured point nearest to the cube's mean, so that nothing is invented.
 * Order follows the first point of each cube. Returns the input when size is not positive.
 */
export function thinPoints(points: Points, size: number): Points {
  if (!(size > 0)) return points
  const { xyz } = points
  const n = xyz.length / 3
  const slot = new Map<number, number>()
  const sum: number[] = []
  const cubeOf = new Int32Array(n)
  for (let i = 0; i < n; i++) {
    const key =
      (Math.floor(xyz[3 * i] / size) + 1048576) * 4398046511104 +
      (Math.floor(xyz[3 * i + 1] / size) + 1048576) * 2097152 +
      (Math.floor(xyz[3 * i + 2] / size) + 1048576)
    let c = slot.get(key)
    if (c === undefined) {
      c = sum.length / 4
      slot.set(key, c)
      sum.push(0, 0, 0, 0)
    }
    cubeOf[i] = c
    for (let k = 0; k < 3; k++) sum[4 * c + k] += xyz[3 * i + k]
    sum[4 * c + 3]++
  }
  const m = sum.length / 4
  const best = new Float64Array(m).fill(Infinity)
  const pick = new Int32Array(m)
  for (let i = 0; i < n; i++) {
    const c = 4 * cubeOf[i]
    let d = 0
    for (let k = 0; k < 3; k++) d += (xyz[3 * i + k] - sum[c + k] / sum[c + 3]) ** 2
    if (d < best[cubeOf[i]]) {
      best[cubeOf[i]] = d
      pick[cubeOf[i]] = i
    }
  }
  const take = <A extends Float32Array | Uint8Array>(a: A, out: A): A => {
    for (let c = 0; c < m; c++) for (let k = 0; k < 3; k++) out[3 * c + k] = a[3 * pick[c] + k]
    return out
  }
  return makePoints({
    xyz: take(xyz, f32(3 * m)),
    normals: points.normals && take(points.normals, f32(3 * m)),
    colours: points.colours && take(points.colours, u8(3 * m)),
    viewpoint: points.viewpoint,
  })
}
