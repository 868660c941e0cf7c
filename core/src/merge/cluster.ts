import { f32 } from '../base/arrays.ts'

export interface Clusters {
  xyz: Float32Array
  normals: Float32Array
  /** sum of the weights of the points in each cluster */
  weights: Float32Array
  /** points in each cluster */
  counts: Float32Array
  count: number
}

export interface ClusterBuilder {
  /** n points: 3n coordinates, 3n normals, n weights */
  add(xyz: Float32Array, normals: Float32Array, weights: Float32Array, n: number): void
  done(): Clusters
}

/** Means of all points at once, see `clustering`. */
export function clusterPoints(xyz: Float32Array, normals: Float32Array, weights: Float32Array, size: number): Clusters {
  const n = xyz.length / 3
  const all = clustering(size, n)
  all.add(xyz, normals, weights, n)
  return all.done()
}

/**
 * Means of the points that share a small cube and roughly a normal. The merge averages over some 3 cells anyway, so that
 * clusters of 0.8 cells lose nothing that it could see, yet leave a third of the points to visit. Points may come in pieces; `expected` of them or so.
 * Measured on the bracket: mesh to truth rms the same to 0.0001 mm, field three times faster.
 */
export function clustering(size: number, expected: number): ClusterBuilder {
  const inv = 1 / size
  // about a third of the points of overlapping passes are left
  let capacity = 2 ** Math.ceil(Math.log2(Math.max(1024, expected / 3)))
  let mask = 2 * capacity - 1
  let table = new Int32Array(2 * capacity).fill(-1)
  let kx = new Int32Array(capacity)
  let ky = new Int32Array(capacity)
  let kz = new Int32Array(capacity)
  // per cluster: weight, weighted place relative to the cube, normal sum, count
  let sum = new Float64Array(8 * capacity)
  let count = 0
  const hash = (x: number, y: number, z: number) => {
    let h = Math.imul(x, 0x9e3779b1) ^ Math.imul(y, 0x85ebca77) ^ Math.imul(z, 0xc2b2ae3d)
    h ^= h >>> 15
    return Math.imul(h, 0x2c1b3c6d) >>> 7
  }
  const grow = () => {
    capacity *= 2
    mask = 2 * capacity - 1
    const copy = <T extends Int32Array | Float64Array>(from: T, to: T) => {
      to.set(from)
      return to
    }
    kx = copy(kx, new Int32Array(capacity))
    ky = copy(ky, new Int32Array(capacity))
    kz = copy(kz, new Int32Array(capacity))
    sum = copy(sum, new Float64Array(8 * capacity))
    table = new Int32Array(2 * capacity).fill(-1)
    for (let c = 0; c < count; c++) {
      let s = hash(kx[c], ky[c], kz[c]) & mask
      while (table[s] >= 0) s = (s + 1) & mask
      table[s] = c
    }
  }
  return { add, done }

  function add(xyz: Float32Array, normals: Float32Array, weights: Float32Array, n: number): void {
    for (let i = 0; i < n; i++) {
      const px = xyz[3 * i]
      const py = xyz[3 * i + 1]
      const pz = xyz[3 * i + 2]
      const x = Math.floor(px * inv)
      const y = Math.floor(py * inv)
      const z = Math.floor(pz * inv)
      const nx = normals[3 * i]
      const ny = normals[3 * i + 1]
      const nz = normals[3 * i + 2]
      let s = hash(x, y, z) & mask
      let c: number
      for (;;) {
        c = table[s]
        if (c < 0) {
          if (count === capacity) {
            grow()
            s = hash(x, y, z) & mask
            while (table[s] >= 0) s = (s + 1) & mask
          }
          c = count++
          table[s] = c
          kx[c] = x
          ky[c] = y
          kz[c] = z
          break
        }
        if (kx[c] === x && ky[c] === y && kz[c] === z) {
          const o = 8 * c
          const d = nx * sum[o + 4] + ny * sum[o + 5] + nz * sum[o + 6]
          if (d > 0 && d * d > 0.72 * (sum[o + 4] ** 2 + sum[o + 5] ** 2 + sum[o + 6] ** 2)) break
        }
        s = (s + 1) & mask
      }
      const w = weights[i]
      const o = 8 * c
      sum[o] += w
      sum[o + 1] += w * px
      sum[o + 2] += w * py
      sum[o + 3] += w * pz
      sum[o + 4] += w * nx
      sum[o + 5] += w * ny
      sum[o + 6] += w * nz
      sum[o + 7] += 1
    }
  }

  function done(): Clusters {
    const out: Clusters = { xyz: f32(3 * count), normals: f32(3 * count), weights: f32(count), counts: f32(count), count }
    for (let c = 0; c < count; c++) {
      const o = 8 * c
      const w = sum[o]
      const l = Math.sqrt(sum[o + 4] ** 2 + sum[o + 5] ** 2 + sum[o + 6] ** 2)
      for (let k = 0; k < 3; k++) {
        out.xyz[3 * c + k] = sum[o + 1 + k] / w
        out.normals[3 * c + k] = sum[o + 4 + k] / l
      }
      out.weights[c] = w
      out.counts[c] = sum[o + 7]
    }
    return out
  }
}
