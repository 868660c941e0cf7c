/**
 * Dense symmetric positive definite systems by Cholesky's method (Golub and Van Loan 4.2).
 */

/** Lower factor of a (n x n, row major), or undefined when a is not positive definite. */
export function cholesky(a: ArrayLike<number>, n: number): Float64Array | undefined {
  const l = new Float64Array(n * n)
  for (let i = 0; i < n; i++)
    for (let j = 0; j <= i; j++) {
      let s = a[i * n + j]
      for (let k = 0; k < j; k++) s -= l[i * n + k] * l[j * n + k]
      if (i === j) {
        if (!(s > 0)) return undefined
        l[i * n + i] = Math.sqrt(s)
      } else l[i * n + j] = s / l[j * n + j]
    }
  return l
}

export function choleskySolve(l: Float64Array, b: ArrayLike<number>, n: number): Float64Array {
  const x = Float64Array.from(b)
  for (let i = 0; i < n; i++) {
    let s = x[i]
    for (let k = 0; k < i; k++) s -= l[i * n + k] * x[k]
    x[i] = s / l[i * n + i]
  }
  for (let i = n - 1; i >= 0; i--) {
    let s = x[i]
    for (let k = i + 1; k < n; k++) s -= l[k * n + i] * x[k]
    x[i] = s / l[i * n + i]
  }
  return x
}

export function choleskyInverse(l: Float64Array, n: number): Float64Array {
  const inv = new Float64Array(n * n)
  const e = new Float64Array(n)
  for (let c = 0; c < n; c++) {
    e.fill(0)
    e[c] = 1
    const x = choleskySolve(l, e, n)
    for (let r = 0; r < n; r++) inv[r * n + c] = x[r]
  }
  return inv
}
