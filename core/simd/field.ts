/**
 * Distance field of the merge on blocks of 8 x 8 x 8 nodes; src/merge/field.ts says what it means and where it comes from.
 * Four points at a time, single precision: all lengths are relative to the node.
 */
import { inner, LANES, ofLeast, squared, total } from './lanes'
import { pieceEnd, pieceFrom, pieceTop, seek, X, Y, Z } from './rows'

let NX: usize = 0
let NY: usize = 0
let NZ: usize = 0
let W: usize = 0
let C: usize = 0
let cell: f64 = 0
let slack: f64 = 0
let radius: f64 = 0
let small: f64 = 0
let border: f32 = 0
let coherentLow: f32 = 0
let coherentHigh: f32 = 0

/** normal that goes with the last value */
let gx: f32 = 0
let gy: f32 = 0
let gz: f32 = 0

export function setField(
  nx: usize,
  ny: usize,
  nz: usize,
  weights: usize,
  counts: usize,
  size: f64,
  off: f64,
  large: f64,
  least: f64,
  beside: f32,
  low: f32,
  high: f32,
): void {
  NX = nx
  NY = ny
  NZ = nz
  W = weights
  C = counts
  cell = size
  slack = off
  radius = large
  small = least
  border = beside
  coherentLow = low
  coherentHigh = high
}

/** n blocks: coordinates (3 i32 each), rows (64 bytes each), values (512 f32 each). */
export function field(n: i32, blocks: usize, rows: usize, values: usize, ox: f64, oy: f64, oz: f64): void {
  for (let b = 0; b < n; b++) {
    const at = blocks + 12 * <usize>b
    const bx = load<i32>(at)
    const by = load<i32>(at, 4)
    const bz = load<i32>(at, 8)
    for (let row = 0; row < 64; row++) {
      const bits = <i32>load<u8>(rows + 64 * <usize>b + row)
      const out = values + 2048 * <usize>b + 32 * <usize>row
      v128.store(out, f32x4.splat(NaN))
      v128.store(out, f32x4.splat(NaN), 16)
      if (bits == 0) continue
      const y = oy + cell * <f64>(8 * by + (row & 7))
      const z = oz + cell * <f64>(8 * bz + (row >> 3))
      for (let i = 0; i < 8; i++) if (bits & (1 << i)) store<f32>(out + 4 * i, fieldAt(ox + cell * <f64>(8 * bx + i), y, z))
    }
  }
}

/** Field and normal (4 floats each, NaN where unknown) at n places (3 floats each). */
export function surfaceAt(n: i32, places: usize, out: usize): void {
  for (let i = 0; i < n; i++) {
    const o = places + 12 * <usize>i
    const at = out + 16 * <usize>i
    store<f32>(at, fieldAt(<f64>load<f32>(o), <f64>load<f32>(o, 4), <f64>load<f32>(o, 8)))
    store<f32>(at, gx, 4)
    store<f32>(at, gy, 8)
    store<f32>(at, gz, 12)
  }
}

/** normal and value of the face found by goesOn, and whether both faces meet in a convex edge */
let ox: f32 = 0
let oy: f32 = 0
let oz: f32 = 0
let other: f32 = 0
let convex: bool = false

/**
 * Whether the part goes on round an edge where the support of the node's own face (normal a) ends in direction b: whether at least 4 measured
 * points within the radius belong to faces that cross b. Of several such faces (in a corner) the one that counts is that whose
 * plane bounds the part here: the furthest outside of a convex edge, the furthest inside of a concave one.
 */
function goesOn(m: i32, x: v128, y: v128, z: v128, r2: f32, ax: v128, ay: v128, az: v128, bx: v128, by: v128, bz: v128): bool {
  const r2v = f32x4.splat(r2)
  const zero = f32x4.splat(0)
  const fold = f32x4.splat(0.4)
  let out = zero
  let into = zero
  // 4 lanes each: the largest f with n.b > 0 and the least with n.b < 0
  let most = f32x4.splat(-Infinity)
  let least = f32x4.splat(Infinity)
  let mostAt = i32x4.splat(-1)
  let leastAt = i32x4.splat(-1)
  for (let k = 0; k < m; k++) {
    const s = (<usize>k) << 2
    const end = load<i32>(pieceEnd + s)
    const top = load<f32>(pieceTop + s)
    const ends = i32x4.splat(end)
    for (let i = load<i32>(pieceFrom + s); i < end; i += 4) {
      const o = (<usize>i) << 2
      if (load<f32>(X + o) > top) break
      const dx = f32x4.sub(x, v128.load(X + o))
      const dy = f32x4.sub(y, v128.load(Y + o))
      const dz = f32x4.sub(z, v128.load(Z + o))
      const nx = v128.load(NX + o)
      const ny = v128.load(NY + o)
      const nz = v128.load(NZ + o)
      const index = i32x4.add(i32x4.splat(i), LANES)
      const good = v128.and(v128.and(f32x4.lt(squared(dx, dy, dz), r2v), f32x4.lt(inner(nx, ny, nz, ax, ay, az), fold)), i32x4.lt_s(index, ends))
      if (!v128.any_true(good)) continue
      const along = inner(nx, ny, nz, bx, by, bz)
      const f = inner(nx, ny, nz, dx, dy, dz)
      const c = v128.load(C + o)
      const up = v128.and(good, f32x4.gt(along, fold))
      const down = v128.and(good, f32x4.lt(along, f32x4.neg(fold)))
      out = f32x4.add(out, v128.and(c, up))
      into = f32x4.add(into, v128.and(c, down))
      const higher = v128.and(up, f32x4.gt(f, most))
      most = v128.bitselect(f, most, higher)
      mostAt = v128.bitselect(index, mostAt, higher)
      const lower = v128.and(down, f32x4.lt(f, least))
      least = v128.bitselect(f, least, lower)
      leastAt = v128.bitselect(index, leastAt, lower)
    }
  }
  const outside = total(out)
  const inside = total(into)
  if (max(outside, inside) < 4) return false
  convex = outside >= inside
  const reference = convex ? ofLeast(f32x4.neg(most), mostAt) : ofLeast(least, leastAt)
  if (reference < 0) return false
  const ro = (<usize>reference) << 2
  const rx = v128.load32_splat(NX + ro)
  const ry = v128.load32_splat(NY + ro)
  const rz = v128.load32_splat(NZ + ro)
  const ir2 = f32x4.splat(<f32>1 / r2)
  let ws = zero
  let fs = zero
  let nxs = zero
  let nys = zero
  let nzs = zero
  for (let k = 0; k < m; k++) {
    const s = (<usize>k) << 2
    const end = load<i32>(pieceEnd + s)
    const top = load<f32>(pieceTop + s)
    const ends = i32x4.splat(end)
    for (let i = load<i32>(pieceFrom + s); i < end; i += 4) {
      const o = (<usize>i) << 2
      if (load<f32>(X + o) > top) break
      const dx = f32x4.sub(x, v128.load(X + o))
      const dy = f32x4.sub(y, v128.load(Y + o))
      const dz = f32x4.sub(z, v128.load(Z + o))
      const d2 = squared(dx, dy, dz)
      const nx = v128.load(NX + o)
      const ny = v128.load(NY + o)
      const nz = v128.load(NZ + o)
      const same = f32x4.gt(inner(nx, ny, nz, rx, ry, rz), f32x4.splat(0.9))
      const good = v128.and(v128.and(f32x4.lt(d2, r2v), same), i32x4.lt_s(i32x4.add(i32x4.splat(i), LANES), ends))
      const u = f32x4.sub(f32x4.splat(1), f32x4.mul(d2, ir2))
      const w = v128.and(f32x4.mul(v128.load(W + o), f32x4.mul(u, u)), good)
      ws = f32x4.add(ws, w)
      fs = f32x4.add(fs, f32x4.mul(w, inner(nx, ny, nz, dx, dy, dz)))
      nxs = f32x4.add(nxs, f32x4.mul(w, nx))
      nys = f32x4.add(nys, f32x4.mul(w, ny))
      nzs = f32x4.add(nzs, f32x4.mul(w, nz))
    }
  }
  const weight = total(ws)
  if (weight <= 0) return false
  other = total(fs) / weight
  ox = total(nxs)
  oy = total(nys)
  oz = total(nzs)
  const il = <f32>1 / sqrt<f32>(ox * ox + oy * oy + oz * oz)
  ox *= il
  oy *= il
  oz *= il
  return true
}

/** Field at a place, its normal in gx, gy, gz. */
function fieldAt(px: f64, py: f64, pz: f64): f32 {
  onEdge = false
  const own = ownField(px, py, pz)
  // beyond an edge: the part is where both faces say so, or where one of them does
  if (!onEdge || own != own || (convex ? own >= other : own <= other)) return own
  gx = ox
  gy = oy
  gz = oz
  return other
}
let onEdge: bool = false

/** Of the face that is nearest. */
function ownField(px: f64, py: f64, pz: f64): f32 {
  const m = seek(px, py, pz, radius)
  if (m == 0) return NaN
  const x = f32x4.splat(<f32>px)
  const y = f32x4.splat(<f32>py)
  const z = f32x4.splat(<f32>pz)
  const r2 = <f32>(radius * radius)
  // the nearest point says which side of an edge this is
  let least = f32x4.splat(r2)
  let which = i32x4.splat(-1)
  for (let k = 0; k < m; k++) {
    const s = (<usize>k) << 2
    const end = load<i32>(pieceEnd + s)
    const top = load<f32>(pieceTop + s)
    const ends = i32x4.splat(end)
    for (let i = load<i32>(pieceFrom + s); i < end; i += 4) {
      const o = (<usize>i) << 2
      if (load<f32>(X + o) > top) break
      const dx = f32x4.sub(x, v128.load(X + o))
      const dy = f32x4.sub(y, v128.load(Y + o))
      const dz = f32x4.sub(z, v128.load(Z + o))
      const d2 = squared(dx, dy, dz)
      const index = i32x4.add(i32x4.splat(i), LANES)
      const nearer = v128.and(f32x4.lt(d2, least), i32x4.lt_s(index, ends))
      least = v128.bitselect(d2, least, nearer)
      which = v128.bitselect(index, which, nearer)
    }
  }
  const near = ofLeast(least, which)
  if (near < 0) return NaN
  const no = (<usize>near) << 2
  const sx = load<f32>(NX + no)
  const sy = load<f32>(NY + no)
  const sz = load<f32>(NZ + no)
  // too far off to be the corner of a cell that the surface crosses: half of the band is done with here
  const off = abs(<f64>sx * (px - <f64>load<f32>(X + no)) + <f64>sy * (py - <f64>load<f32>(Y + no)) + <f64>sz * (pz - <f64>load<f32>(Z + no)))
  if (off > <f64>(abs(sx) + abs(sy) + abs(sz)) * 1.05 * cell + slack) return NaN
  const ax = f32x4.splat(sx)
  const ay = f32x4.splat(sy)
  const az = f32x4.splat(sz)
  const q2 = <f32>(small * small)
  const r2v = f32x4.splat(r2)
  const q2v = f32x4.splat(q2)
  const ir2 = f32x4.splat(<f32>1 / r2)
  const iq2 = f32x4.splat(<f32>1 / q2)
  const one = f32x4.splat(1)
  // large radius
  let w0 = f32x4.splat(0)
  let f0 = f32x4.splat(0)
  let nx0 = f32x4.splat(0)
  let ny0 = f32x4.splat(0)
  let nz0 = f32x4.splat(0)
  let px0 = f32x4.splat(0)
  let py0 = f32x4.splat(0)
  let pz0 = f32x4.splat(0)
  // small radius
  let w1 = f32x4.splat(0)
  let f1 = f32x4.splat(0)
  let nx1 = f32x4.splat(0)
  let ny1 = f32x4.splat(0)
  let nz1 = f32x4.splat(0)
  let px1 = f32x4.splat(0)
  let py1 = f32x4.splat(0)
  let pz1 = f32x4.splat(0)
  let support = f32x4.splat(0)
  for (let k = 0; k < m; k++) {
    const s = (<usize>k) << 2
    const end = load<i32>(pieceEnd + s)
    const top = load<f32>(pieceTop + s)
    const ends = i32x4.splat(end)
    for (let i = load<i32>(pieceFrom + s); i < end; i += 4) {
      const o = (<usize>i) << 2
      if (load<f32>(X + o) > top) break
      const dx = f32x4.sub(x, v128.load(X + o))
      const dy = f32x4.sub(y, v128.load(Y + o))
      const dz = f32x4.sub(z, v128.load(Z + o))
      const d2 = squared(dx, dy, dz)
      const nx = v128.load(NX + o)
      const ny = v128.load(NY + o)
      const nz = v128.load(NZ + o)
      const agree = inner(nx, ny, nz, ax, ay, az)
      const good = v128.and(v128.and(f32x4.lt(d2, r2v), f32x4.ge(agree, f32x4.splat(0.4))), i32x4.lt_s(i32x4.add(i32x4.splat(i), LANES), ends))
      if (!v128.any_true(good)) continue
      const g = f32x4.min(one, f32x4.mul(f32x4.sub(agree, f32x4.splat(0.4)), f32x4.splat(2)))
      const wi = v128.and(f32x4.mul(v128.load(W + o), f32x4.mul(g, g)), good)
      const f = inner(nx, ny, nz, dx, dy, dz)
      const u = f32x4.sub(one, f32x4.mul(d2, ir2))
      let w = f32x4.mul(wi, f32x4.mul(u, u))
      w0 = f32x4.add(w0, w)
      f0 = f32x4.add(f0, f32x4.mul(w, f))
      nx0 = f32x4.add(nx0, f32x4.mul(w, nx))
      ny0 = f32x4.add(ny0, f32x4.mul(w, ny))
      nz0 = f32x4.add(nz0, f32x4.mul(w, nz))
      px0 = f32x4.add(px0, f32x4.mul(w, dx))
      py0 = f32x4.add(py0, f32x4.mul(w, dy))
      pz0 = f32x4.add(pz0, f32x4.mul(w, dz))
      support = f32x4.add(support, v128.and(v128.load(C + o), good))
      const core = f32x4.lt(d2, q2v)
      if (!v128.any_true(core)) continue
      const v = f32x4.sub(one, f32x4.mul(d2, iq2))
      w = v128.and(f32x4.mul(wi, f32x4.mul(v, v)), core)
      w1 = f32x4.add(w1, w)
      f1 = f32x4.add(f1, f32x4.mul(w, f))
      nx1 = f32x4.add(nx1, f32x4.mul(w, nx))
      ny1 = f32x4.add(ny1, f32x4.mul(w, ny))
      nz1 = f32x4.add(nz1, f32x4.mul(w, nz))
      px1 = f32x4.add(px1, f32x4.mul(w, dx))
      py1 = f32x4.add(py1, f32x4.mul(w, dy))
      pz1 = f32x4.add(pz1, f32x4.mul(w, dz))
    }
  }
  const weight0 = total(w0)
  if (total(support) < 4 || weight0 <= 0) return NaN
  let ux = total(nx0)
  let uy = total(ny0)
  let uz = total(nz0)
  const l0 = sqrt<f32>(ux * ux + uy * uy + uz * uz)
  const i0 = <f32>1 / l0
  ux *= i0
  uy *= i0
  uz *= i0
  const iw0 = <f32>1 / weight0
  const cx = total(px0) * iw0
  const cy = total(py0) * iw0
  const cz = total(pz0) * iw0
  const h0 = ux * cx + uy * cy + uz * cz
  // all support to one side: beyond the border, unless the part goes on there round an edge
  const tx = cx - h0 * ux
  const ty = cy - h0 * uy
  const tz = cz - h0 * uz
  const beside = tx * tx + ty * ty + tz * tz
  if (beside > border * border * r2) {
    const it = <f32>1 / sqrt<f32>(beside)
    onEdge = goesOn(m, x, y, z, r2, ax, ay, az, f32x4.splat(tx * it), f32x4.splat(ty * it), f32x4.splat(tz * it))
    if (!onEdge) return NaN
  }
  const value0 = <f32>0.5 * (total(f0) * iw0 + h0)
  // 1 for parallel normals
  let t = (l0 * iw0 - coherentLow) / (coherentHigh - coherentLow)
  t = t < 0 ? 0 : t > 1 ? 1 : t
  gx = ux
  gy = uy
  gz = uz
  const weight1 = total(w1)
  if (t >= 1 || weight1 <= 0) return value0
  ux = total(nx1)
  uy = total(ny1)
  uz = total(nz1)
  const i1 = <f32>1 / sqrt<f32>(ux * ux + uy * uy + uz * uz)
  gx = ux * i1
  gy = uy * i1
  gz = uz * i1
  const h1 = (gx * total(px1) + gy * total(py1) + gz * total(pz1)) / weight1
  const value1 = <f32>0.5 * (total(f1) / weight1 + h1)
  return t * value0 + (<f32>1 - t) * value1
}
