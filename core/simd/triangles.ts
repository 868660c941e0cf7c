/**
 * Closest triangle of a mesh. Triangles lie in groups of four beside each other, under a tree of four children a node:
 * four distances are worked out at once, to triangles as to boxes. Single precision decides which triangle; the caller
 * then works out the place on it exactly (src/space/closest.ts).
 */

import { inner, lane, squared } from './lanes'

/** A group: ax ay az, then b - a, then c - a, then the unit normal (NaN without area), four floats each. */
const GROUP: usize = 192
/** A node: least x y z, greatest x y z of its four children. */
const NODE: usize = 96

let groups: usize = 0
let groupCount: i32 = 0
let levels: i32 = 0
const levelAt: usize = memory.data(4 * 20)
const levelSize: usize = memory.data(4 * 20)

const STACK = 256
const stackNode: usize = memory.data(4 * STACK)
const stackLevel: usize = memory.data(4 * STACK)
const stackD: usize = memory.data(4 * STACK)

let best: f32 = 0
let bestTriangle: i32 = -1

/** Bytes that the nodes above n groups take. */
export function nodeBytes(n: i32): i32 {
  let bytes = 0
  do {
    n = (n + 3) >> 2
    bytes += n * <i32>NODE
  } while (n > 1)
  return bytes
}

/** Builds the boxes over n groups (the last one filled up with copies of a triangle). */
export function setTriangles(at: usize, n: i32, nodes: usize): void {
  groups = at
  groupCount = n
  levels = 0
  let below = n
  let belowAt: usize = 0
  let here = nodes
  do {
    const size = (below + 3) >> 2
    for (let k = 0; k < 4 * size; k++) {
      const o = here + NODE * <usize>(k >> 2) + 4 * <usize>(k & 3)
      let ax: f32 = Infinity
      let ay: f32 = Infinity
      let az: f32 = Infinity
      let bx: f32 = -Infinity
      let by: f32 = -Infinity
      let bz: f32 = -Infinity
      if (k < below) {
        const isGroup = levels == 0
        const c = isGroup ? at + GROUP * <usize>k : belowAt + NODE * <usize>k
        for (let i: usize = 0; i < 4; i++) {
          const q = c + 4 * i
          if (isGroup) {
            const x = load<f32>(q)
            const y = load<f32>(q, 16)
            const z = load<f32>(q, 32)
            const x1 = x + load<f32>(q, 48)
            const y1 = y + load<f32>(q, 64)
            const z1 = z + load<f32>(q, 80)
            const x2 = x + load<f32>(q, 96)
            const y2 = y + load<f32>(q, 112)
            const z2 = z + load<f32>(q, 128)
            ax = min(ax, min(x, min(x1, x2)))
            ay = min(ay, min(y, min(y1, y2)))
            az = min(az, min(z, min(z1, z2)))
            bx = max(bx, max(x, max(x1, x2)))
            by = max(by, max(y, max(y1, y2)))
            bz = max(bz, max(z, max(z1, z2)))
          } else {
            ax = min(ax, load<f32>(q))
            ay = min(ay, load<f32>(q, 16))
            az = min(az, load<f32>(q, 32))
            bx = max(bx, load<f32>(q, 48))
            by = max(by, load<f32>(q, 64))
            bz = max(bz, load<f32>(q, 80))
          }
        }
      }
      store<f32>(o, ax)
      store<f32>(o, ay, 16)
      store<f32>(o, az, 32)
      store<f32>(o, bx, 48)
      store<f32>(o, by, 64)
      store<f32>(o, bz, 80)
    }
    store<usize>(levelAt + ((<usize>levels) << 2), here)
    store<i32>(levelSize + ((<usize>levels) << 2), below)
    belowAt = here
    here += NODE * <usize>size
    below = size
    levels++
  } while (below > 1)
}

/** Squared distance to the segment a + t e, 0 <= t <= 1, from a place p relative to a. */
function toSegment(px: v128, py: v128, pz: v128, ex: v128, ey: v128, ez: v128): v128 {
  const zero = f32x4.splat(0)
  const along = inner(px, py, pz, ex, ey, ez)
  const e2 = squared(ex, ey, ez)
  const t = f32x4.min(f32x4.splat(1), f32x4.max(zero, f32x4.div(along, f32x4.max(e2, f32x4.splat(1e-35)))))
  const dx = f32x4.sub(px, f32x4.mul(t, ex))
  const dy = f32x4.sub(py, f32x4.mul(t, ey))
  const dz = f32x4.sub(pz, f32x4.mul(t, ez))
  return squared(dx, dy, dz)
}

/** (n x e) . p: on which side of the edge e a place p, relative to its start, lies. */
function beside(nx: v128, ny: v128, nz: v128, ex: v128, ey: v128, ez: v128, px: v128, py: v128, pz: v128): v128 {
  const x = f32x4.sub(f32x4.mul(ny, ez), f32x4.mul(nz, ey))
  const y = f32x4.sub(f32x4.mul(nz, ex), f32x4.mul(nx, ez))
  const z = f32x4.sub(f32x4.mul(nx, ey), f32x4.mul(ny, ex))
  return inner(x, y, z, px, py, pz)
}

function tryGroup(g: i32, x: v128, y: v128, z: v128): void {
  const o = groups + GROUP * <usize>g
  const px = f32x4.sub(x, v128.load(o))
  const py = f32x4.sub(y, v128.load(o, 16))
  const pz = f32x4.sub(z, v128.load(o, 32))
  const bx = v128.load(o, 48)
  const by = v128.load(o, 64)
  const bz = v128.load(o, 80)
  const cx = v128.load(o, 96)
  const cy = v128.load(o, 112)
  const cz = v128.load(o, 128)
  const nx = v128.load(o, 144)
  const ny = v128.load(o, 160)
  const nz = v128.load(o, 176)
  const qx = f32x4.sub(px, bx)
  const qy = f32x4.sub(py, by)
  const qz = f32x4.sub(pz, bz)
  const ex = f32x4.sub(cx, bx)
  const ey = f32x4.sub(cy, by)
  const ez = f32x4.sub(cz, bz)
  // inside of all three sides: the plane counts. With the normal made in double precision slivers come out right;
  // shares of the two sides (Ericson 2005) lose all digits on them
  const zero = f32x4.splat(0)
  const within = v128.and(
    v128.and(f32x4.ge(beside(nx, ny, nz, bx, by, bz, px, py, pz), zero), f32x4.ge(beside(nx, ny, nz, ex, ey, ez, qx, qy, qz), zero)),
    f32x4.le(beside(nx, ny, nz, cx, cy, cz, px, py, pz), zero),
  )
  const h = inner(px, py, pz, nx, ny, nz)
  let d = f32x4.mul(h, h)
  if (!v128.all_true<i32>(within)) {
    const e = f32x4.min(f32x4.min(toSegment(px, py, pz, bx, by, bz), toSegment(px, py, pz, cx, cy, cz)), toSegment(qx, qy, qz, ex, ey, ez))
    d = v128.bitselect(d, e, within)
  }
  let bits = i32x4.bitmask(f32x4.lt(d, f32x4.splat(best)))
  while (bits) {
    const k = ctz(bits)
    bits &= bits - 1
    const dk = lane(d, k)
    if (dk < best) {
      best = dk
      bestTriangle = 4 * g + k
    }
  }
}

/** Triangle nearest to a place among those nearer than the root of bound2, -1 for none; `hint`: a triangle probably near, or -1. */
function closestTriangle(px: f32, py: f32, pz: f32, hint: i32, bound2: f64): i32 {
  const x = f32x4.splat(px)
  const y = f32x4.splat(py)
  const z = f32x4.splat(pz)
  best = <f32>bound2
  bestTriangle = -1
  if (groupCount == 0) return -1
  if (hint >= 0) tryGroup(hint >> 2, x, y, z)
  const zero = f32x4.splat(0)
  let top: usize = 4
  store<i32>(stackNode, 0)
  store<i32>(stackLevel, levels - 1)
  store<f32>(stackD, 0)
  while (top > 0) {
    top -= 4
    if (load<f32>(stackD + top) >= best) continue
    const node = load<i32>(stackNode + top)
    const level = load<i32>(stackLevel + top)
    if (level < 0) {
      tryGroup(node, x, y, z)
      continue
    }
    const o = load<usize>(levelAt + ((<usize>level) << 2)) + NODE * <usize>node
    const dx = f32x4.max(zero, f32x4.max(f32x4.sub(v128.load(o), x), f32x4.sub(x, v128.load(o, 48))))
    const dy = f32x4.max(zero, f32x4.max(f32x4.sub(v128.load(o, 16), y), f32x4.sub(y, v128.load(o, 64))))
    const dz = f32x4.max(zero, f32x4.max(f32x4.sub(v128.load(o, 32), z), f32x4.sub(z, v128.load(o, 80))))
    const d = squared(dx, dy, dz)
    let bits = i32x4.bitmask(f32x4.lt(d, f32x4.splat(best)))
    // farthest first, so that the nearest is looked at next: an insertion into the sorted end of the stack
    const from = top
    while (bits) {
      const k = ctz(bits)
      bits &= bits - 1
      const dk = lane(d, k)
      let at = top
      while (at > from && load<f32>(stackD + at - 4) < dk) {
        store<f32>(stackD + at, load<f32>(stackD + at - 4))
        store<i32>(stackNode + at, load<i32>(stackNode + at - 4))
        store<i32>(stackLevel + at, level - 1)
        at -= 4
      }
      store<f32>(stackD + at, dk)
      store<i32>(stackNode + at, 4 * node + k)
      store<i32>(stackLevel + at, level - 1)
      top += 4
    }
  }
  return bestTriangle
}

/** For n places (3 floats each), each starting from the answer before it; out: a triangle or -1 each. */
export function closestTriangles(n: i32, places: usize, bound2: f64, out: usize): void {
  let hint = -1
  for (let i = 0; i < n; i++) {
    const o = places + 12 * <usize>i
    const t = closestTriangle(load<f32>(o), load<f32>(o, 4), load<f32>(o, 8), hint, bound2)
    if (t >= 0) hint = t
    store<i32>(out + ((<usize>i) << 2), t)
  }
}
