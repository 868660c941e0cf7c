/** Normals of whole runs of points; see src/shape/normals.ts for what they mean. */
import { inner, LANES, least, ofLeast, squared, total } from './lanes'
import { breadth, count, fitPlane, nx, ny, nz, sigma } from './plane'
import { pieceEnd, pieceFrom, pieceTop, seek, X, Y, Z } from './rows'

/** Local planes of points start .. end: normals (3 a point) and residuals, Infinity where there is no plane to speak of. */
export function planes(start: i32, end: i32, r: f64, normals: usize, sigmas: usize): void {
  for (let i = start; i < end; i++) {
    const o = (<usize>i) << 2
    const at = normals + 12 * <usize>(i - start)
    const as = sigmas + ((<usize>(i - start)) << 2)
    fitPlane(<f64>load<f32>(X + o), <f64>load<f32>(Y + o), <f64>load<f32>(Z + o), r)
    if (count < 5) {
      store<f32>(as, Infinity)
      store<f32>(at, 0)
      store<f32>(at, 0, 4)
      store<f32>(at, 1, 8)
      continue
    }
    store<f32>(at, <f32>nx)
    store<f32>(at, <f32>ny, 4)
    store<f32>(at, <f32>nz, 8)
    store<f32>(as, breadth < 0.02 ? Infinity : <f32>sigma)
  }
}

const FAR = f32x4.splat(3e38)

/**
 * A point beside an edge adopts the plane of the side it lies on: of its sound neighbours, the one that explains it best.
 * NX, NY, NZ, S: normals and residuals of all points; out: 3 a point from `start`; adopted: a byte a point.
 */
export function edges(start: i32, end: i32, r: f64, noise: f64, limitFactor: f64, NX: usize, NY: usize, NZ: usize, S: usize, out: usize, adopted: usize): void {
  const reach = 1.5 * r
  const reach2 = <f32>(reach * reach)
  const limit = <f32>(limitFactor * noise)
  const limits = f32x4.splat(limit)
  const ir2 = f32x4.splat(<f32>1 / reach2)
  const pull = f32x4.splat(<f32>(0.1 * noise) / reach2)
  const one = f32x4.splat(1)
  for (let i = start; i < end; i++) {
    const o = (<usize>i) << 2
    const at = out + 12 * <usize>(i - start)
    store<u8>(adopted + (i - start), 0)
    store<f32>(at, load<f32>(NX + o))
    store<f32>(at, load<f32>(NY + o), 4)
    store<f32>(at, load<f32>(NZ + o), 8)
    if (load<f32>(S + o) <= limit) continue
    const x = load<f32>(X + o)
    const y = load<f32>(Y + o)
    const z = load<f32>(Z + o)
    const xv = f32x4.splat(x)
    const yv = f32x4.splat(y)
    const zv = f32x4.splat(z)
    const m = seek(x, y, z, reach)
    let nearest = FAR
    let which = i32x4.splat(-1)
    for (let k = 0; k < m; k++) {
      const s = (<usize>k) << 2
      const e = load<i32>(pieceEnd + s)
      const top = load<f32>(pieceTop + s)
      const ends = i32x4.splat(e)
      for (let j = load<i32>(pieceFrom + s); j < e; j += 4) {
        const q = (<usize>j) << 2
        if (load<f32>(X + q) > top) break
        const dx = f32x4.sub(xv, v128.load(X + q))
        const dy = f32x4.sub(yv, v128.load(Y + q))
        const dz = f32x4.sub(zv, v128.load(Z + q))
        const d2 = squared(dx, dy, dz)
        const off = f32x4.abs(inner(dx, dy, dz, v128.load(NX + q), v128.load(NY + q), v128.load(NZ + q)))
        const score = f32x4.add(off, f32x4.mul(d2, pull))
        const index = i32x4.add(i32x4.splat(j), LANES)
        const good = v128.and(
          v128.and(f32x4.le(v128.load(S + q), limits), f32x4.le(d2, f32x4.splat(reach2))),
          v128.and(f32x4.lt(score, nearest), i32x4.lt_s(index, ends)),
        )
        nearest = v128.bitselect(score, nearest, good)
        which = v128.bitselect(index, which, good)
      }
    }
    const best = least(nearest)
    const bj = ofLeast(nearest, which)
    if (bj < 0 || <f64>best >= 3 * noise) {
      // nothing sound around: a feature smaller than the radius; take the smaller plane
      fitPlane(x, y, z, 0.6 * r)
      if (count >= 5) {
        store<f32>(at, <f32>nx)
        store<f32>(at, <f32>ny, 4)
        store<f32>(at, <f32>nz, 8)
      }
      continue
    }
    // mean of all that agree: one neighbour's normal alone would be as noisy as its own plane
    const b = (<usize>bj) << 2
    const bx = f32x4.splat(load<f32>(NX + b))
    const by = f32x4.splat(load<f32>(NY + b))
    const bz = f32x4.splat(load<f32>(NZ + b))
    let sx = f32x4.splat(0)
    let sy = f32x4.splat(0)
    let sz = f32x4.splat(0)
    for (let k = 0; k < m; k++) {
      const s = (<usize>k) << 2
      const e = load<i32>(pieceEnd + s)
      const top = load<f32>(pieceTop + s)
      const ends = i32x4.splat(e)
      for (let j = load<i32>(pieceFrom + s); j < e; j += 4) {
        const q = (<usize>j) << 2
        if (load<f32>(X + q) > top) break
        const ux = v128.load(NX + q)
        const uy = v128.load(NY + q)
        const uz = v128.load(NZ + q)
        const d = inner(bx, by, bz, ux, uy, uz)
        const dx = f32x4.sub(xv, v128.load(X + q))
        const dy = f32x4.sub(yv, v128.load(Y + q))
        const dz = f32x4.sub(zv, v128.load(Z + q))
        const d2 = squared(dx, dy, dz)
        let w = f32x4.sub(one, f32x4.mul(d2, ir2))
        const good = v128.and(
          v128.and(f32x4.le(v128.load(S + q), limits), f32x4.gt(w, f32x4.splat(0))),
          v128.and(f32x4.ge(f32x4.abs(d), f32x4.splat(0.98)), i32x4.lt_s(i32x4.add(i32x4.splat(j), LANES), ends)),
        )
        // with the sign that agrees
        w = v128.and(v128.bitselect(f32x4.neg(w), w, f32x4.lt(d, f32x4.splat(0))), good)
        sx = f32x4.add(sx, f32x4.mul(w, ux))
        sy = f32x4.add(sy, f32x4.mul(w, uy))
        sz = f32x4.add(sz, f32x4.mul(w, uz))
      }
    }
    const tx = total(sx)
    const ty = total(sy)
    const tz = total(sz)
    const l = <f32>1 / sqrt<f32>(tx * tx + ty * ty + tz * tz)
    store<f32>(at, tx * l)
    store<f32>(at, ty * l, 4)
    store<f32>(at, tz * l, 8)
    store<u8>(adopted + (i - start), 1)
  }
}
