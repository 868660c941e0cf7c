import { f32, u8 } from '../base/arrays.ts'
import { makePoints, type Points } from '../shape/points.ts'
import { cubesOf } from '../space/cubes.ts'

/**
 * One point for each cube of `size` mm: the measured point nearest to the cube's mean, so that nothing is invented.
 * Order follows the first point of each cube. Returns the input when size is not positive.
 */
export function thinPoints(points: Points, size: number): Points {
  if (!(size > 0)) return points
  const { xyz } = points
  const n = xyz.length / 3
  const { of, count } = cubesOf(xyz, size)
  const sum = new Float64Array(3 * count)
  const many = new Uint32Array(count)
  for (let i = 0; i < n; i++) {
    const c = of[i]
    sum[3 * c] += xyz[3 * i]
    sum[3 * c + 1] += xyz[3 * i + 1]
    sum[3 * c + 2] += xyz[3 * i + 2]
    many[c]++
  }
  const best = new Float64Array(count).fill(Infinity)
  const pick = new Int32Array(count)
  for (let i = 0; i < n; i++) {
    const c = of[i]
    const x = xyz[3 * i] - sum[3 * c] / many[c]
    const y = xyz[3 * i + 1] - sum[3 * c + 1] / many[c]
    const z = xyz[3 * i + 2] - sum[3 * c + 2] / many[c]
    const d = x * x + y * y + z * z
    if (d < best[c]) {
      best[c] = d
      pick[c] = i
    }
  }
  const take = <A extends Float32Array | Uint8Array>(a: A, out: A): A => {
    for (let c = 0; c < count; c++) for (let k = 0; k < 3; k++) out[3 * c + k] = a[3 * pick[c] + k]
    return out
  }
  return makePoints({
    xyz: take(xyz, f32(3 * count)),
    normals: points.normals && take(points.normals, f32(3 * count)),
    colours: points.colours && take(points.colours, u8(3 * count)),
    viewpoint: points.viewpoint,
  })
}
