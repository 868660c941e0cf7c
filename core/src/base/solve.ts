/**
 * Dense symmetric positive definite systems by Cholesky's method (Golub and Van Loan 4.2).
 */

/**
 * Lower factor of a (n x n, row major), or undefined when a is not positive definite. Zeros before the first entry of a row are kept as zeros and cost nothing
 * (envelope method, Jennings 1966): order the unknowns so that what belongs together stands together.
 */
export function cholesky(a: ArrayLike<number>, n: number): Float64Array | undefined {
  const l = new Float64Array(n * n)
  const from = rowStarts(a, n)
  for (let i = 0; i < n; i++) {
    const row = i * n
    for (let j = from[i]; j <= i; j++) {
      const other = j * n
      let s = a[row + j]
      for (let k = Math.max(from[i], from[j]); k < j; k++) s -= l[row + k] * l[other + k]
      if (i === j) {
        if (!(s > 0)) return undefined
        l[row + i] = Math.sqrt(s)
      } else l[row + j] = s / l[other + j]
    }
  }
  return l
}

/** First column of each row of a lower triangle that is not zero. */
function rowStarts(a: ArrayLike<number>, n: number): Int32Array {
  const from = new Int32Array(n)
  for (let i = 0; i < n; i++) {
    let j = 0
    while (j < i && a[i * n + j] === 0) j++
    from[i] = j
  }
  return from
}

export function choleskySolve(l: Float64Array, b: ArrayLike<number>, n: number): Float64Array {
  const x = Float64Array.from(b)
  solveInPlace(l, x, n, rowStarts(l, n), 0)
  return x
}

/** first: entries before it are known to be zero */
function solveInPlace(l: Float64Array, x: Float64Array, n: number, from: Int32Array, first: number): void {
  for (let i = first; i < n; i++) {
    let s = x[i]
    for (let k = Math.max(first, from[i]); k < i; k++) s -= l[i * n + k] * x[k]
    x[i] = s / l[i * n + i]
  }
  // by rows, as they lie in memory
  for (let i = n - 1; i >= 0; i--) {
    const v = x[i] / l[i * n + i]
    x[i] = v
    if (v !== 0) for (let k = from[i]; k < i; k++) x[k] -= l[i * n + k] * v
  }
}

export function choleskyInverse(l: Float64Array, n: number): Float64Array {
  const inv = new Float64Array(n * n)
  const from = rowStarts(l, n)
  for (let c = 0; c < n; c++) {
    // symmetric: a column is a row
    const x = inv.subarray(c * n, (c + 1) * n)
    x[c] = 1
    solveInPlace(l, x, n, from, c)
  }
  return inv
}

/**
 * Entries of the inverse where the factor has room for them (lower triangle, within its envelope; the rest zero), without the rest of it: Takahashi, Fagan and
 * Chin 1973. Enough for the trace of a product with a matrix that has its entries there.
 */
export function choleskyInverseInside(l: Float64Array, n: number): Float64Array {
  const from = rowStarts(l, n)
  const z = new Float64Array(n * n)
  const rows = new Int32Array(n)
  for (let i = n - 1; i >= 0; i--) {
    // rows below that reach column i
    let m = 0
    for (let k = i + 1; k < n; k++) if (from[k] <= i) rows[m++] = k
    const d = l[i * n + i]
    for (let q = m - 1; q >= 0; q--) {
      const j = rows[q]
      let s = 0
      for (let r = 0; r < m; r++) {
        const k = rows[r]
        s += l[k * n + i] * (k >= j ? z[k * n + j] : z[j * n + k])
      }
      z[j * n + i] = -s / d
    }
    let s = 0
    for (let r = 0; r < m; r++) s += l[rows[r] * n + i] * z[rows[r] * n + i]
    z[i * n + i] = (1 / d - s) / d
  }
  return z
}

/** Product of two 6 x 6 matrices, row major: covariances of poses are carried with it. */
export function product6(a: ArrayLike<number>, b: ArrayLike<number>): Float64Array {
  const out = new Float64Array(36)
  for (let i = 0; i < 6; i++) for (let j = 0; j < 6; j++) for (let k = 0; k < 6; k++) out[6 * i + j] += a[6 * i + k] * b[6 * k + j]
  return out
}

/** J C J', 6 x 6. */
export function congruent(j: Float64Array, c: Float64Array): Float64Array {
  return product6(
    product6(j, c),
    j.map((_, i) => j[6 * (i % 6) + Math.floor(i / 6)]),
  )
}
