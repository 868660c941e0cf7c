/**
 * Least-squares quadric w = c0 + c1 u + c2 v + c3 u2 + c4 uv + c5 v2 through the points of a ball, above the plane through its middle with a given
 * normal; weights 1 - (d/r)^2 (Epanechnikov 1969) times each point's own. src/shape/localsurface.ts says what it is for. Lengths are relative to the ball.
 */
import { inner, LANES, squared, total } from './lanes'
import { pieceEnd, pieceFrom, pieceTop, seek, X, Y, Z } from './rows'

/** a weight for each point, or none */
let weights: usize = 0
export function setWeights(at: usize): void {
  weights = at
}

/** Points within r of each of the sorted points from start to end. */
export function neighbours(start: i32, end: i32, r: f64, out: usize): void {
  const r2 = f32x4.splat(<f32>(r * r))
  for (let p = start; p < end; p++) {
    const at = (<usize>p) << 2
    const x = load<f32>(X + at)
    const y = load<f32>(Y + at)
    const z = load<f32>(Z + at)
    const m = seek(x, y, z, r)
    const xv = f32x4.splat(x)
    const yv = f32x4.splat(y)
    const zv = f32x4.splat(z)
    let n = 0
    for (let k = 0; k < m; k++) {
      const s = (<usize>k) << 2
      const stop = load<i32>(pieceEnd + s)
      const top = load<f32>(pieceTop + s)
      const ends = i32x4.splat(stop)
      for (let i = load<i32>(pieceFrom + s); i < stop; i += 4) {
        const o = (<usize>i) << 2
        if (load<f32>(X + o) > top) break
        const d2 = squared(f32x4.sub(v128.load(X + o), xv), f32x4.sub(v128.load(Y + o), yv), f32x4.sub(v128.load(Z + o), zv))
        n += popcnt(i32x4.bitmask(v128.and(f32x4.le(d2, r2), i32x4.lt_s(i32x4.add(i32x4.splat(i), LANES), ends))))
      }
    }
    store<i32>(out + ((<usize>(p - start)) << 2), n)
  }
}

/**
 * What fitSurface or fitStrip found, ten numbers; fitSurface: points (0 when they do not determine the quadric), height above the middle along the given normal, unit normal there (3), standard
 * deviation of the points across the surface, variance of the height and of a slope for points of unit variance, how far the points lie to one side as a
 * share of the ball, share of their spread along the second direction against the first. In memory: reading it there takes a tenth of the time of ten globals.
 */
const FOUND: usize = memory.data(8 * 10)
export function surfaceFound(): usize {
  return FOUND
}

/** Fewer points determine nothing. */
const FEWEST: i32 = 8

/** lower triangle of the normal matrix, row by row, then the right side */
const A: usize = memory.data(8 * 36)
const B: usize = memory.data(8 * 6)
const C: usize = memory.data(8 * 6)

function a(i: i32, j: i32): f64 {
  return load<f64>(A + ((<usize>(6 * i + j)) << 3))
}
function put(i: i32, j: i32, v: f64): void {
  store<f64>(A + ((<usize>(6 * i + j)) << 3), v)
}

/** Cholesky factor in place; gives how many of the six unknowns the points determine: three are a plane. */
function factor(): i32 {
  for (let i = 0; i < 6; i++)
    for (let j = 0; j <= i; j++) {
      const whole = a(i, j)
      let s = whole
      for (let k = 0; k < j; k++) s -= a(i, k) * a(j, k)
      if (i == j) {
        if (!(s > 1e-5 * whole)) return i
        put(i, i, Math.sqrt(s))
      } else put(i, j, s / a(j, j))
    }
  return 6
}

/** Solves for the vector at `at`, in place. */
function solveAt(at: usize): void {
  for (let i = 0; i < 6; i++) {
    let s = load<f64>(at + ((<usize>i) << 3))
    for (let k = 0; k < i; k++) s -= a(i, k) * load<f64>(at + ((<usize>k) << 3))
    store<f64>(at + ((<usize>i) << 3), s / a(i, i))
  }
  for (let i = 5; i >= 0; i--) {
    let s = load<f64>(at + ((<usize>i) << 3))
    for (let k = i + 1; k < 6; k++) s -= a(k, i) * load<f64>(at + ((<usize>k) << 3))
    store<f64>(at + ((<usize>i) << 3), s / a(i, i))
  }
}

/** Entry (k, k) of the inverse. */
function inverseAt(k: i32): f64 {
  for (let i = 0; i < 6; i++) store<f64>(C + ((<usize>i) << 3), i == k ? 1 : 0)
  solveAt(C)
  return load<f64>(C + ((<usize>k) << 3))
}

/** axes across the normal, sums of the weights, their squares, and of the weighted squared heights */
let tx = 0.0
let ty = 0.0
let tz = 0.0
let bx = 0.0
let by = 0.0
let bz = 0.0
let w0 = 0.0
let w2 = 0.0
let ss = 0.0

/**
 * Sums over the points of the ball, of those in the slab of half thickness `band` (share of the ball) where there is one; their number. S: f64
 * with a slab, i32 without: decided when it is compiled, the loop being the hottest there is.
 */
function gather<S>(px: f64, py: f64, pz: f64, r: f64, nx: f64, ny: f64, nz: f64, band: f64): i32 {
  const m = seek(px, py, pz, r)
  const xv = f32x4.splat(<f32>px)
  const yv = f32x4.splat(<f32>py)
  const zv = f32x4.splat(<f32>pz)
  const scale = f32x4.splat(<f32>(1 / r))
  const one = f32x4.splat(1)
  // any two axes square to the normal
  tx = ty = tz = 0
  if (Math.abs(nx) < 0.7) {
    ty = -nz
    tz = ny
  } else {
    tx = nz
    tz = -nx
  }
  const tl = 1 / Math.sqrt(tx * tx + ty * ty + tz * tz)
  tx *= tl
  ty *= tl
  tz *= tl
  bx = ny * tz - nz * ty
  by = nz * tx - nx * tz
  bz = nx * ty - ny * tx
  const ux = f32x4.splat(<f32>tx)
  const uy = f32x4.splat(<f32>ty)
  const uz = f32x4.splat(<f32>tz)
  const vx = f32x4.splat(<f32>bx)
  const vy = f32x4.splat(<f32>by)
  const vz = f32x4.splat(<f32>bz)
  const wx = f32x4.splat(<f32>nx)
  const wy = f32x4.splat(<f32>ny)
  const wz = f32x4.splat(<f32>nz)
  const slab = f32x4.splat(<f32>band)
  let n = 0
  const zero = f32x4.splat(0)
  let s0 = zero
  let sw2 = zero
  let su = zero
  let sv = zero
  let suu = zero
  let suv = zero
  let svv = zero
  let s30 = zero
  let s21 = zero
  let s12 = zero
  let s03 = zero
  let s40 = zero
  let s31 = zero
  let s22 = zero
  let s13 = zero
  let s04 = zero
  let h0 = zero
  let hu = zero
  let hv = zero
  let huu = zero
  let huv = zero
  let hvv = zero
  let hh = zero
  for (let k = 0; k < m; k++) {
    const s = (<usize>k) << 2
    const end = load<i32>(pieceEnd + s)
    const top = load<f32>(pieceTop + s)
    const ends = i32x4.splat(end)
    for (let i = load<i32>(pieceFrom + s); i < end; i += 4) {
      const o = (<usize>i) << 2
      if (load<f32>(X + o) > top) break
      const dx = f32x4.mul(f32x4.sub(v128.load(X + o), xv), scale)
      const dy = f32x4.mul(f32x4.sub(v128.load(Y + o), yv), scale)
      const dz = f32x4.mul(f32x4.sub(v128.load(Z + o), zv), scale)
      const d2 = squared(dx, dy, dz)
      let mask = v128.and(f32x4.lt(d2, one), i32x4.lt_s(i32x4.add(i32x4.splat(i), LANES), ends))
      if (isFloat<S>()) mask = v128.and(mask, f32x4.lt(f32x4.abs(inner(dx, dy, dz, wx, wy, wz)), slab))
      const bits = i32x4.bitmask(mask)
      if (bits == 0) continue
      n += popcnt(bits)
      let g = v128.and(f32x4.sub(one, d2), mask)
      if (weights) g = f32x4.mul(g, v128.load(weights + o))
      const u = v128.and(inner(dx, dy, dz, ux, uy, uz), mask)
      const v = v128.and(inner(dx, dy, dz, vx, vy, vz), mask)
      const h = v128.and(inner(dx, dy, dz, wx, wy, wz), mask)
      const gu = f32x4.mul(g, u)
      const gv = f32x4.mul(g, v)
      const guu = f32x4.mul(gu, u)
      const guv = f32x4.mul(gu, v)
      const gvv = f32x4.mul(gv, v)
      s0 = f32x4.add(s0, g)
      sw2 = f32x4.add(sw2, f32x4.mul(g, g))
      su = f32x4.add(su, gu)
      sv = f32x4.add(sv, gv)
      suu = f32x4.add(suu, guu)
      suv = f32x4.add(suv, guv)
      svv = f32x4.add(svv, gvv)
      s30 = f32x4.add(s30, f32x4.mul(guu, u))
      s21 = f32x4.add(s21, f32x4.mul(guu, v))
      s12 = f32x4.add(s12, f32x4.mul(gvv, u))
      s03 = f32x4.add(s03, f32x4.mul(gvv, v))
      const u2 = f32x4.mul(u, u)
      const uv = f32x4.mul(u, v)
      const v2 = f32x4.mul(v, v)
      s40 = f32x4.add(s40, f32x4.mul(guu, u2))
      s31 = f32x4.add(s31, f32x4.mul(guu, uv))
      s22 = f32x4.add(s22, f32x4.mul(guu, v2))
      s13 = f32x4.add(s13, f32x4.mul(gvv, uv))
      s04 = f32x4.add(s04, f32x4.mul(gvv, v2))
      const gh = f32x4.mul(g, h)
      h0 = f32x4.add(h0, gh)
      hu = f32x4.add(hu, f32x4.mul(gh, u))
      hv = f32x4.add(hv, f32x4.mul(gh, v))
      huu = f32x4.add(huu, f32x4.mul(gh, u2))
      huv = f32x4.add(huv, f32x4.mul(gh, uv))
      hvv = f32x4.add(hvv, f32x4.mul(gh, v2))
      hh = f32x4.add(hh, f32x4.mul(gh, h))
    }
  }
  if (n < FEWEST) return n
  w0 = <f64>total(s0)
  w2 = <f64>total(sw2)
  ss = <f64>total(hh)
  const mu = <f64>total(su)
  const mv = <f64>total(sv)
  const muu = <f64>total(suu)
  const muv = <f64>total(suv)
  const mvv = <f64>total(svv)
  put(0, 0, w0)
  put(1, 0, mu)
  put(1, 1, muu)
  put(2, 0, mv)
  put(2, 1, muv)
  put(2, 2, mvv)
  put(3, 0, muu)
  put(3, 1, <f64>total(s30))
  put(3, 2, <f64>total(s21))
  put(3, 3, <f64>total(s40))
  put(4, 0, muv)
  put(4, 1, <f64>total(s21))
  put(4, 2, <f64>total(s12))
  put(4, 3, <f64>total(s31))
  put(4, 4, <f64>total(s22))
  put(5, 0, mvv)
  put(5, 1, <f64>total(s12))
  put(5, 2, <f64>total(s03))
  put(5, 3, <f64>total(s22))
  put(5, 4, <f64>total(s13))
  put(5, 5, <f64>total(s04))
  store<f64>(B, <f64>total(h0))
  store<f64>(B, <f64>total(hu), 8)
  store<f64>(B, <f64>total(hv), 16)
  store<f64>(B, <f64>total(huu), 24)
  store<f64>(B, <f64>total(huv), 32)
  store<f64>(B, <f64>total(hvv), 40)
  return n
}

/** second moments about the middle of the points: variances along the first and the second direction, how far the middle lies to one side */
let along = 0.0
let across = 0.0
let aside = 0.0
function spread(): void {
  const cu = a(1, 0) / w0
  const cv = a(2, 0) / w0
  const puu = a(1, 1) / w0 - cu * cu
  const puv = a(2, 1) / w0 - cu * cv
  const pvv = a(2, 2) / w0 - cv * cv
  aside = Math.sqrt(cu * cu + cv * cv)
  const half = (puu + pvv) / 2
  const root = Math.sqrt(((puu - pvv) / 2) * ((puu - pvv) / 2) + puv * puv)
  along = half + root
  across = max(0, half - root)
}

/** Height c0 and slopes c1, c2 as height in mm and unit normal. */
function tell(r: f64, nx: f64, ny: f64, nz: f64, c0: f64, c1: f64, c2: f64): void {
  store<f64>(FOUND, r * c0, 8)
  const l = 1 / Math.sqrt(1 + c1 * c1 + c2 * c2)
  store<f64>(FOUND, (nx - c1 * tx - c2 * bx) * l, 16)
  store<f64>(FOUND, (ny - c1 * ty - c2 * by) * l, 24)
  store<f64>(FOUND, (nz - c1 * tz - c2 * bz) * l, 32)
}

export function fitSurface(px: f64, py: f64, pz: f64, r: f64, nx: f64, ny: f64, nz: f64): void {
  const n = gather<i32>(px, py, pz, r, nx, ny, nz, 0)
  store<f64>(FOUND, 0)
  if (n < FEWEST) return
  spread()
  const b0 = load<f64>(B)
  const b1 = load<f64>(B, 8)
  const b2 = load<f64>(B, 16)
  const b3 = load<f64>(B, 24)
  const b4 = load<f64>(B, 32)
  const b5 = load<f64>(B, 40)
  if (factor() < 6) return
  solveAt(B)
  const c0 = load<f64>(B)
  const c1 = load<f64>(B, 8)
  const c2 = load<f64>(B, 16)
  const left = ss - c0 * b0 - c1 * b1 - c2 * b2 - load<f64>(B, 24) * b3 - load<f64>(B, 32) * b4 - load<f64>(B, 40) * b5
  store<f64>(FOUND, <f64>n)
  tell(r, nx, ny, nz, c0, c1, c2)
  // six freedoms of n taken off, as if all weights were alike
  store<f64>(FOUND, n > 6 ? r * Math.sqrt((max(0, left) / w0) * (<f64>n / <f64>(n - 6))) : Infinity, 40)
  // (A^-1 sum(w^2 f f') A^-1) with the weights' own mean in place of w^2
  const mean = w2 / w0
  store<f64>(FOUND, mean * inverseAt(0), 48)
  store<f64>(FOUND, (mean * 0.5 * (inverseAt(1) + inverseAt(2))) / (r * r), 56)
  store<f64>(FOUND, aside, 64)
  store<f64>(FOUND, along > 0 ? across / along : 0, 72)
}

/**
 * Plane through the points of a ball that lie within `band` of the plane through its middle with the given normal (mm). Found: points,
 * height, normal, standard deviation (three freedoms taken off), variance of the height, how many times better a quadric explains each of the three more freedoms it has
 * than noise (F), how far the points lie to one side as a share of the ball, standard deviation of their places along the shorter direction, mm.
 */
export function fitStrip(px: f64, py: f64, pz: f64, r: f64, nx: f64, ny: f64, nz: f64, band: f64): void {
  const n = gather<f64>(px, py, pz, r, nx, ny, nz, band / r)
  store<f64>(FOUND, 0)
  if (n < FEWEST) return
  spread()
  // the plane by its own three equations: the quadric's factor begins with theirs
  const b0 = load<f64>(B)
  const b1 = load<f64>(B, 8)
  const b2 = load<f64>(B, 16)
  const known = factor()
  if (known < 3) return
  const g0 = b0 / a(0, 0)
  const g1 = (b1 - a(1, 0) * g0) / a(1, 1)
  const g2 = (b2 - a(2, 0) * g0 - a(2, 1) * g1) / a(2, 2)
  const c2 = g2 / a(2, 2)
  const c1 = (g1 - a(2, 1) * c2) / a(1, 1)
  const c0 = (g0 - a(1, 0) * c1 - a(2, 0) * c2) / a(0, 0)
  const left = max(0, ss - c0 * b0 - c1 * b1 - c2 * b2)
  let gain = 0.0
  if (known == 6) {
    const b3 = load<f64>(B, 24)
    const b4 = load<f64>(B, 32)
    const b5 = load<f64>(B, 40)
    solveAt(B)
    const rest = ss - load<f64>(B) * b0 - load<f64>(B, 8) * b1 - load<f64>(B, 16) * b2 - load<f64>(B, 24) * b3 - load<f64>(B, 32) * b4 - load<f64>(B, 40) * b5
    gain = (left - rest) / 3 / (max(1e-30, rest) / <f64>max(1, n - 6))
  }
  store<f64>(FOUND, <f64>n)
  tell(r, nx, ny, nz, c0, c1, c2)
  store<f64>(FOUND, r * Math.sqrt((left / w0) * (<f64>n / <f64>(n - 3))), 40)
  // first entry of the inverse of the plane's matrix: squares of the first column of the inverse factor
  const i0 = 1 / a(0, 0)
  const i1 = (-a(1, 0) * i0) / a(1, 1)
  const i2 = (-a(2, 0) * i0 - a(2, 1) * i1) / a(2, 2)
  store<f64>(FOUND, (w2 / w0) * (i0 * i0 + i1 * i1 + i2 * i2), 48)
  store<f64>(FOUND, gain, 56)
  store<f64>(FOUND, aside, 64)
  store<f64>(FOUND, r * Math.sqrt(across), 72)
}
