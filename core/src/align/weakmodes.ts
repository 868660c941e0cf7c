import { jacobiEigen } from '../base/eigen.ts'
import { cholesky, choleskySolve } from '../base/solve.ts'

/** A common motion of all unknowns that the surfaces hold no better than noise would. */
export interface WeakModes {
  /** columns: size x count, row major; v' N v = 1 */
  vectors: Float64Array
  /** N times them, likewise */
  weighted: Float64Array
  /** how many times better than by noise each is held */
  holds: Float64Array
  count: number
}

/**
 * A motion of a single pass counts as held when it is held so many times better than the noise of the normals alone would hold it. Five times: a pass that
 * shared two narrow strips counted as held, 0.3 mm off at a stated 0.07. Fifty: passes of a plate at 0.05 mm of noise counted as free, 0.01 mm off.
 */
export const ABOVE_NOISE = 20
/** The same for a whole setup, which nothing but surface holds. Twenty: a lever that was turned over stated 0.01 mm where it was 0.05 off. */
export const SETUP_ABOVE_NOISE = 50

/**
 * Motions of all unknowns together that surface does not hold: eigenvectors of the pencil (H, N) below `limit`, H the information of the matches, N what
 * noisy normals alone would make of it (Gelfand 2003 for one pass; here of the whole system, since a freedom may belong to a chain or a group of
 * passes and each of them be held by its neighbours). Independent of units, size and place. All eigenvectors by Jacobi for small systems, else the lowest by
 * inverse iteration with Rayleigh-Ritz (Bathe and Wilson 1973).
 */
export function weakModes(h: Float64Array, noise: Float64Array, size: number, limit = ABOVE_NOISE): WeakModes {
  let mean = 0
  for (let i = 0; i < size; i++) mean += noise[i * size + i] / Math.max(1, size)
  // what has no matches has no noise either, and is not held
  const least = 1e-6 * mean + 1e-300
  const above = new Float64Array(size * size)
  for (let i = 0; i < above.length; i++) above[i] = h[i] - limit * noise[i]
  for (let i = 0; i < size; i++) above[i * size + i] -= limit * least
  // nothing below the limit, and most of the time nothing is, leaves H - limit N positive definite (Sylvester 1852)
  if (cholesky(above, size)) return { vectors: new Float64Array(0), weighted: new Float64Array(0), holds: new Float64Array(0), count: 0 }
  const n = Float64Array.from(noise)
  for (let i = 0; i < size; i++) n[i * size + i] += least
  const all = size <= 72 ? whole(h, n, size) : lowest(h, n, size, limit)
  const keep = [...all.values.keys()].filter((k) => all.values[k] < limit)
  const vectors = new Float64Array(size * keep.length)
  const weighted = new Float64Array(size * keep.length)
  keep.forEach((k, c) => {
    const v = all.column(k)
    for (let i = 0; i < size; i++) {
      vectors[i * keep.length + c] = v[i]
      let s = 0
      for (let j = 0; j < size; j++) s += n[i * size + j] * v[j]
      weighted[i * keep.length + c] = s
    }
  })
  return { vectors, weighted, holds: Float64Array.from(keep, (k) => all.values[k]), count: keep.length }
}

interface Pencil {
  values: Float64Array
  column(k: number): Float64Array
}

function whole(h: Float64Array, n: Float64Array, size: number): Pencil {
  const l = cholesky(n, size)
  if (!l) return { values: new Float64Array(0), column: () => new Float64Array(0) }
  const { values, vectors } = jacobiEigen(reduced(h, l, size), size)
  return { values, column: (k) => backward(l, column(vectors, size, size, k), size) }
}

/** L^-1 H L^-T */
function reduced(h: Float64Array, l: Float64Array, size: number): Float64Array {
  const a = Float64Array.from(h)
  for (let pass = 0; pass < 2; pass++) {
    for (let c = 0; c < size; c++)
      for (let i = 0; i < size; i++) {
        let s = a[i * size + c]
        for (let k = 0; k < i; k++) s -= l[i * size + k] * a[k * size + c]
        a[i * size + c] = s / l[i * size + i]
      }
    for (let i = 0; i < size; i++)
      for (let j = 0; j < i; j++) {
        const t = a[i * size + j]
        a[i * size + j] = a[j * size + i]
        a[j * size + i] = t
      }
  }
  return a
}

/** L^-T v */
function backward(l: Float64Array, v: Float64Array, size: number): Float64Array {
  for (let i = size - 1; i >= 0; i--) {
    let s = v[i]
    for (let k = i + 1; k < size; k++) s -= l[k * size + i] * v[k]
    v[i] = s / l[i * size + i]
  }
  return v
}

const column = (m: Float64Array, rows: number, columns: number, k: number) => Float64Array.from({ length: rows }, (_, i) => m[i * columns + k])

function times(m: Float64Array, v: Float64Array, size: number): Float64Array {
  const out = new Float64Array(size)
  for (let i = 0; i < size; i++) {
    let s = 0
    for (let j = 0; j < size; j++) s += m[i * size + j] * v[j]
    out[i] = s
  }
  return out
}

function lowest(h: Float64Array, n: Float64Array, size: number, limit: number): Pencil {
  const shifted = Float64Array.from(h, (v, i) => v + 0.1 * limit * n[i])
  const l = cholesky(shifted, size)
  if (!l) return { values: new Float64Array(0), column: () => new Float64Array(0) }
  for (let block = Math.min(size, 12); ; block = Math.min(size, 2 * block)) {
    // any start that is not square to what is looked for
    let x = Array.from({ length: block }, (_, k) => Float64Array.from({ length: size }, (_, i) => Math.sin(1 + 7.3 * i + 3.1 * k * (i + 1))))
    let values = new Float64Array(block)
    for (let it = 0; it < 40; it++) {
      const y = x.map((v) => choleskySolve(l, times(n, v, size), size))
      const hy = y.map((v) => times(h, v, size))
      const ny = y.map((v) => times(n, v, size))
      const dot = (a: Float64Array[], b: Float64Array[]) => {
        const m = new Float64Array(block * block)
        for (let i = 0; i < block; i++)
          for (let j = 0; j < block; j++) {
            let s = 0
            for (let k = 0; k < size; k++) s += a[i][k] * b[j][k]
            m[i * block + j] = s
          }
        return m
      }
      const small = whole(dot(y, hy), dot(y, ny), block)
      if (!small.values.length) break
      const coefficients = Array.from({ length: block }, (_, k) => small.column(k))
      x = coefficients.map((c) => {
        const v = new Float64Array(size)
        for (let b = 0; b < block; b++) for (let k = 0; k < size; k++) v[k] += c[b] * y[b][k]
        return v
      })
      const settled = values.every((v, k) => small.values[k] > 3 * limit || Math.abs(v - small.values[k]) <= 1e-6 * (1 + Math.abs(v)))
      values = Float64Array.from(small.values)
      if (settled && it > 2) break
    }
    if (block === size || values[block - 1] > limit) return { values, column: (k) => x[k] }
  }
}

/** Takes the part of a gradient that only noise made, in place. */
export function withoutWeak(g: Float64Array, w: WeakModes): void {
  const along = new Float64Array(w.count)
  for (let c = 0; c < w.count; c++) for (let i = 0; i < g.length; i++) along[c] += w.vectors[i * w.count + c] * g[i]
  for (let i = 0; i < g.length; i++) for (let c = 0; c < w.count; c++) g[i] -= w.weighted[i * w.count + c] * along[c]
}

/** The same for an information matrix: what is left of it along weak motions is `keep` of what there was. */
export function stiffnessWithoutWeak(h: Float64Array, size: number, w: WeakModes, keep: number): void {
  for (let c = 0; c < w.count; c++) {
    // along a mode the matrix is holds[c] (N v)(N v)'
    const f = (1 - keep) * w.holds[c]
    for (let i = 0; i < size; i++) {
      const wi = f * w.weighted[i * w.count + c]
      for (let j = 0; j < size; j++) h[i * size + j] -= wi * w.weighted[j * w.count + c]
    }
  }
}

/** P' M P with P = 1 - V V' N: a covariance of gradients without what only noise made, in place. */
export function varianceWithoutWeak(m: Float64Array, size: number, w: WeakModes): void {
  if (!w.count) return
  const column = new Float64Array(size)
  for (let pass = 0; pass < 2; pass++) {
    for (let j = 0; j < size; j++) {
      for (let i = 0; i < size; i++) column[i] = m[i * size + j]
      withoutWeak(column, w)
      for (let i = 0; i < size; i++) m[i * size + j] = column[i]
    }
    for (let i = 0; i < size; i++)
      for (let j = 0; j < i; j++) {
        const t = m[i * size + j]
        m[i * size + j] = m[j * size + i]
        m[j * size + i] = t
      }
  }
}
