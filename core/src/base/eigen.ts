/**
 * Eigenvalues and eigenvectors of symmetric matrices.
 */

/**
 * Smallest eigenvalue of the symmetric 3x3 matrix [xx xy xz; . yy yz; . . zz] and its unit eigenvector.
 * Closed form (Smith 1961 for the values, cross product of two rows for the vector): no iteration, no allocation.
 * out[0..2] vector, out[3..5] eigenvalues ascending. Degenerate input (multiple of identity) gives (0,0,1).
 */
export function smallestEigen3(xx: number, xy: number, xz: number, yy: number, yz: number, zz: number, out: Float64Array): void {
  const q = (xx + yy + zz) / 3
  const p1 = xy * xy + xz * xz + yz * yz
  const ax = xx - q
  const ay = yy - q
  const az = zz - q
  const p2 = ax * ax + ay * ay + az * az + 2 * p1
  if (p2 <= 1e-30 * q * q || p2 === 0) {
    out[0] = 0
    out[1] = 0
    out[2] = 1
    out[3] = out[4] = out[5] = q
    return
  }
  const p = Math.sqrt(p2 / 6)
  const det = ax * (ay * az - yz * yz) - xy * (xy * az - yz * xz) + xz * (xy * yz - ay * xz)
  const r = det / (2 * p * p * p)
  const phi = r <= -1 ? Math.PI / 3 : r >= 1 ? 0 : Math.acos(r) / 3
  const e3 = q + 2 * p * Math.cos(phi)
  const e1 = q + 2 * p * Math.cos(phi + (2 * Math.PI) / 3)
  const e2 = 3 * q - e1 - e3
  out[3] = e1
  out[4] = e2
  out[5] = e3
  const a = xx - e1
  const b = yy - e1
  const c = zz - e1
  // cross products of the rows of A - e1 I: the largest is the safest
  const c0x = xy * yz - xz * b
  const c0y = xz * xy - a * yz
  const c0z = a * b - xy * xy
  const c1x = xy * c - xz * yz
  const c1y = xz * xz - a * c
  const c1z = a * yz - xy * xz
  const c2x = b * c - yz * yz
  const c2y = yz * xz - xy * c
  const c2z = xy * yz - b * xz
  const l0 = c0x * c0x + c0y * c0y + c0z * c0z
  const l1 = c1x * c1x + c1y * c1y + c1z * c1z
  const l2 = c2x * c2x + c2y * c2y + c2z * c2z
  let x = c0x
  let y = c0y
  let z = c0z
  let l = l0
  if (l1 > l) {
    x = c1x
    y = c1y
    z = c1z
    l = l1
  }
  if (l2 > l) {
    x = c2x
    y = c2y
    z = c2z
    l = l2
  }
  if (l < 1e-300) {
    // two smallest values equal (a line of points): any direction across the line
    anyAcross(xx, xy, xz, yy, yz, zz, e3, out)
    return
  }
  const s = 1 / Math.sqrt(l)
  out[0] = x * s
  out[1] = y * s
  out[2] = z * s
}

function anyAcross(xx: number, xy: number, xz: number, yy: number, yz: number, zz: number, e: number, out: Float64Array): void {
  const values = jacobiEigen(Float64Array.of(xx, xy, xz, xy, yy, yz, xz, yz, zz), 3)
  void e
  out[0] = values.vectors[0]
  out[1] = values.vectors[3]
  out[2] = values.vectors[6]
}

/**
 * All eigenvalues (ascending) and eigenvectors (columns, row-major n x n) of a symmetric matrix.
 * Cyclic Jacobi rotations (Jacobi 1846; Golub and Van Loan 8.5): slow but exact to rounding, for n up to some hundred.
 */
export function jacobiEigen(matrix: ArrayLike<number>, n: number): { values: Float64Array; vectors: Float64Array } {
  const a = Float64Array.from(matrix)
  const v = new Float64Array(n * n)
  for (let i = 0; i < n; i++) v[i * n + i] = 1
  for (let sweep = 0; sweep < 60; sweep++) {
    let off = 0
    let dia = 0
    for (let i = 0; i < n; i++) {
      dia += a[i * n + i] * a[i * n + i]
      for (let j = i + 1; j < n; j++) off += a[i * n + j] * a[i * n + j]
    }
    if (off <= 1e-32 * dia || off === 0) break
    for (let p = 0; p < n; p++)
      for (let q = p + 1; q < n; q++) {
        const apq = a[p * n + q]
        if (apq === 0) continue
        const theta = (a[q * n + q] - a[p * n + p]) / (2 * apq)
        const t = (theta >= 0 ? 1 : -1) / (Math.abs(theta) + Math.sqrt(theta * theta + 1))
        const c = 1 / Math.sqrt(t * t + 1)
        const s = t * c
        for (let k = 0; k < n; k++) {
          const x = a[k * n + p]
          const y = a[k * n + q]
          a[k * n + p] = c * x - s * y
          a[k * n + q] = s * x + c * y
        }
        for (let k = 0; k < n; k++) {
          const x = a[p * n + k]
          const y = a[q * n + k]
          a[p * n + k] = c * x - s * y
          a[q * n + k] = s * x + c * y
        }
        for (let k = 0; k < n; k++) {
          const x = v[k * n + p]
          const y = v[k * n + q]
          v[k * n + p] = c * x - s * y
          v[k * n + q] = s * x + c * y
        }
      }
  }
  const order = Array.from({ length: n }, (_, i) => i).sort((i, j) => a[i * n + i] - a[j * n + j])
  const values = new Float64Array(n)
  const vectors = new Float64Array(n * n)
  order.forEach((o, c) => {
    values[c] = a[o * n + o]
    for (let r = 0; r < n; r++) vectors[r * n + c] = v[r * n + o]
  })
  return { values, vectors }
}
