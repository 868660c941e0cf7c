/** Least-squares plane through the points of a ball (Pearson 1901); sums in double precision, two at a time. */
import { LANES, squared } from './lanes'
import { pieceEnd, pieceFrom, pieceTop, seek, X, Y, Z } from './rows'

export let count: i32 = 0
export let cx: f64 = 0
export let cy: f64 = 0
export let cz: f64 = 0
export let nx: f64 = 0
export let ny: f64 = 0
export let nz: f64 = 1
export let sigma: f64 = 0
export let breadth: f64 = 0

function both(v: v128): f64 {
  return f64x2.extract_lane(v, 0) + f64x2.extract_lane(v, 1)
}
function upper(v: v128): v128 {
  return f64x2.promote_low_f32x4(v128.shuffle<i32>(v, v, 2, 3, 0, 1))
}

export function fitPlane(px: f64, py: f64, pz: f64, r: f64): void {
  const m = seek(px, py, pz, r)
  const x = <f32>px
  const y = <f32>py
  const z = <f32>pz
  const xv = f32x4.splat(x)
  const yv = f32x4.splat(y)
  const zv = f32x4.splat(z)
  const r2 = f32x4.splat(<f32>(r * r))
  let n = 0
  let sx = f64x2.splat(0)
  let sy = f64x2.splat(0)
  let sz = f64x2.splat(0)
  let sxx = f64x2.splat(0)
  let sxy = f64x2.splat(0)
  let sxz = f64x2.splat(0)
  let syy = f64x2.splat(0)
  let syz = f64x2.splat(0)
  let szz = f64x2.splat(0)
  for (let k = 0; k < m; k++) {
    const s = (<usize>k) << 2
    const end = load<i32>(pieceEnd + s)
    const top = load<f32>(pieceTop + s)
    const ends = i32x4.splat(end)
    for (let i = load<i32>(pieceFrom + s); i < end; i += 4) {
      const o = (<usize>i) << 2
      if (load<f32>(X + o) > top) break
      let dx = f32x4.sub(v128.load(X + o), xv)
      let dy = f32x4.sub(v128.load(Y + o), yv)
      let dz = f32x4.sub(v128.load(Z + o), zv)
      const d2 = squared(dx, dy, dz)
      const mask = v128.and(f32x4.le(d2, r2), i32x4.lt_s(i32x4.add(i32x4.splat(i), LANES), ends))
      const bits = i32x4.bitmask(mask)
      if (bits == 0) continue
      n += popcnt(bits)
      dx = v128.and(dx, mask)
      dy = v128.and(dy, mask)
      dz = v128.and(dz, mask)
      let a = f64x2.promote_low_f32x4(dx)
      let b = f64x2.promote_low_f32x4(dy)
      let c = f64x2.promote_low_f32x4(dz)
      sx = f64x2.add(sx, a)
      sy = f64x2.add(sy, b)
      sz = f64x2.add(sz, c)
      sxx = f64x2.add(sxx, f64x2.mul(a, a))
      sxy = f64x2.add(sxy, f64x2.mul(a, b))
      sxz = f64x2.add(sxz, f64x2.mul(a, c))
      syy = f64x2.add(syy, f64x2.mul(b, b))
      syz = f64x2.add(syz, f64x2.mul(b, c))
      szz = f64x2.add(szz, f64x2.mul(c, c))
      a = upper(dx)
      b = upper(dy)
      c = upper(dz)
      sx = f64x2.add(sx, a)
      sy = f64x2.add(sy, b)
      sz = f64x2.add(sz, c)
      sxx = f64x2.add(sxx, f64x2.mul(a, a))
      sxy = f64x2.add(sxy, f64x2.mul(a, b))
      sxz = f64x2.add(sxz, f64x2.mul(a, c))
      syy = f64x2.add(syy, f64x2.mul(b, b))
      syz = f64x2.add(syz, f64x2.mul(b, c))
      szz = f64x2.add(szz, f64x2.mul(c, c))
    }
  }
  count = n
  if (n < 4) return
  const i = 1 / <f64>n
  const mx = both(sx) * i
  const my = both(sy) * i
  const mz = both(sz) * i
  cx = <f64>x + mx
  cy = <f64>y + my
  cz = <f64>z + mz
  smallest(both(sxx) * i - mx * mx, both(sxy) * i - mx * my, both(sxz) * i - mx * mz, both(syy) * i - my * my, both(syz) * i - my * mz, both(szz) * i - mz * mz)
  sigma = Math.sqrt((max(0, e1) * <f64>n) / <f64>(n - 3))
  breadth = e3 > 0 ? max(0, e2) / e3 : 0
}

let e1: f64 = 0
let e2: f64 = 0
let e3: f64 = 0

/** Eigenvalues in closed form (Smith 1961) and the vector of the smallest; the same as smallestEigen3 in src/base/eigen.ts. */
function smallest(xx: f64, xy: f64, xz: f64, yy: f64, yz: f64, zz: f64): void {
  const q = (xx + yy + zz) / 3
  const ax = xx - q
  const ay = yy - q
  const az = zz - q
  const p2 = ax * ax + ay * ay + az * az + 2 * (xy * xy + xz * xz + yz * yz)
  nx = 0
  ny = 0
  nz = 1
  e1 = e2 = e3 = q
  if (p2 <= 1e-30 * q * q || p2 == 0) return
  const p = Math.sqrt(p2 / 6)
  const det = ax * (ay * az - yz * yz) - xy * (xy * az - yz * xz) + xz * (xy * yz - ay * xz)
  const c = det / (2 * p * p * p)
  const phi = c <= -1 ? Math.PI / 3 : c >= 1 ? 0 : Math.acos(c) / 3
  e3 = q + 2 * p * Math.cos(phi)
  e1 = q + 2 * p * Math.cos(phi + (2 * Math.PI) / 3)
  e2 = 3 * q - e1 - e3
  const a = xx - e1
  const b = yy - e1
  const d = zz - e1
  // cross products of the rows of A - e1 I: the largest is the safest
  let x = xy * yz - xz * b
  let y = xz * xy - a * yz
  let z = a * b - xy * xy
  let l = x * x + y * y + z * z
  const x1 = xy * d - xz * yz
  const y1 = xz * xz - a * d
  const z1 = a * yz - xy * xz
  const l1 = x1 * x1 + y1 * y1 + z1 * z1
  if (l1 > l) {
    x = x1
    y = y1
    z = z1
    l = l1
  }
  const x2 = b * d - yz * yz
  const y2 = yz * xz - xy * d
  const z2 = xy * yz - b * xz
  const l2 = x2 * x2 + y2 * y2 + z2 * z2
  if (l2 > l) {
    x = x2
    y = y2
    z = z2
    l = l2
  }
  if (l < 1e-300) {
    // points on a line: any direction across it; e3's vector is the largest row of A - e1 I
    const la = a * a + xy * xy + xz * xz
    const lb = xy * xy + b * b + yz * yz
    const lc = xz * xz + yz * yz + d * d
    const ux = la >= lb && la >= lc ? a : lb >= lc ? xy : xz
    const uy = la >= lb && la >= lc ? xy : lb >= lc ? b : yz
    const uz = la >= lb && la >= lc ? xz : lb >= lc ? yz : d
    if (abs(ux) <= abs(uy) && abs(ux) <= abs(uz)) {
      x = 0
      y = uz
      z = -uy
    } else if (abs(uy) <= abs(uz)) {
      x = -uz
      y = 0
      z = ux
    } else {
      x = uy
      y = -ux
      z = 0
    }
    l = x * x + y * y + z * z
    if (l == 0) return
  }
  const s = 1 / Math.sqrt(l)
  nx = x * s
  ny = y * s
  nz = z * s
}
