/**
 * Points in rows along x (see src/space/rowgrid.ts), coordinates apart, so that four are compared at once.
 * `seek` finds the pieces of rows that a ball meets. It remembers where it was in each row: queries come mostly in order.
 */
export let X: usize = 0
export let Y: usize = 0
export let Z: usize = 0
let starts: usize = 0
let ny: i32 = 0
let nz: i32 = 0
let cell: f64 = 0
let oy: f64 = 0
let oz: f64 = 0

const SLOTS = 1024
/** pieces found: first point, end of the row, largest x of the ball in the row */
export const pieceFrom: usize = memory.data(4 * SLOTS)
export const pieceEnd: usize = memory.data(4 * SLOTS)
export const pieceTop: usize = memory.data(4 * SLOTS)
const rowFirst: usize = memory.data(4 * SLOTS)
const rowAt: usize = memory.data(4 * SLOTS)
const rowEnd: usize = memory.data(4 * SLOTS)
const rowY: usize = memory.data(4 * SLOTS)
const rowZ: usize = memory.data(4 * SLOTS)
let slots: i32 = 0
let lastY: i32 = -1
let lastZ: i32 = -1
let lastW: i32 = -1

/** Three arrays of n coordinates (with four floats of room behind each), and the first point of every row. */
export function setRows(x: usize, y: usize, z: usize, rowStarts: usize, rowsY: i32, rowsZ: i32, width: f64, y0: f64, z0: f64): void {
  X = x
  Y = y
  Z = z
  starts = rowStarts
  ny = rowsY
  nz = rowsZ
  cell = width
  oy = y0
  oz = z0
  lastY = lastZ = lastW = -1
}

/** Rows that a ball around any place of row (iy, iz) can meet. There is room for SLOTS of them: the caller sees to it (`useRows`). */
function openRows(iy: i32, iz: i32, w: i32, x: f32): void {
  slots = 0
  for (let z = max(0, iz - w); z <= min(nz - 1, iz + w); z++)
    for (let y = max(0, iy - w); y <= min(ny - 1, iy + w); y++) {
      const at = starts + ((<usize>(z * ny + y)) << 2)
      const a = load<u32>(at)
      const e = load<u32>(at, 4)
      if (a == e) continue
      const s = (<usize>slots) << 2
      store<i32>(rowFirst + s, a)
      store<i32>(rowAt + s, bisect(a, e, x))
      store<i32>(rowEnd + s, e)
      store<i32>(rowY + s, y)
      store<i32>(rowZ + s, z)
      slots++
    }
  lastY = iy
  lastZ = iz
  lastW = w
}

function bisect(a: i32, b: i32, x: f32): i32 {
  while (a < b) {
    const m = (a + b) >>> 1
    if (load<f32>(X + ((<usize>m) << 2)) < x) a = m + 1
    else b = m
  }
  return a
}

/** Pieces of rows within r of (x, y, z); gives their number. Points in them may still lie outside of the ball. */
export function seek(x: f64, y: f64, z: f64, r: f64): i32 {
  const fy = y - oy
  const fz = z - oz
  // beyond the border: what lies there is held by the rows at the border
  const iy = <i32>max(0, min(<f64>(ny - 1), Math.floor(fy / cell)))
  const iz = <i32>max(0, min(<f64>(nz - 1), Math.floor(fz / cell)))
  const w = <i32>Math.ceil(r / cell)
  const lo = <f32>(x - r)
  if (iy != lastY || iz != lastZ || w != lastW) openRows(iy, iz, w, lo)
  const r2 = r * r * 1.000001
  let n: usize = 0
  for (let k = 0; k < slots; k++) {
    const s = (<usize>k) << 2
    const ry = load<i32>(rowY + s)
    const rz = load<i32>(rowZ + s)
    const ya = ry * cell
    const za = rz * cell
    const dy = fy < ya ? (ry > 0 ? ya - fy : 0) : ry < ny - 1 && fy > ya + cell ? fy - ya - cell : 0
    const dz = fz < za ? (rz > 0 ? za - fz : 0) : rz < nz - 1 && fz > za + cell ? fz - za - cell : 0
    const h2 = r2 - dy * dy - dz * dz
    if (h2 <= 0) continue
    const end = load<i32>(rowEnd + s)
    let a = load<i32>(rowAt + s)
    const first = load<i32>(rowFirst + s)
    let steps = 32
    while (a > first && load<f32>(X + ((<usize>(a - 1)) << 2)) >= lo && --steps > 0) a--
    while (a < end && load<f32>(X + ((<usize>a) << 2)) < lo && --steps > 0) a++
    if (steps <= 0) a = bisect(first, end, lo)
    store<i32>(rowAt + s, a)
    const h = Math.sqrt(h2)
    const from = <f32>(x - h)
    const top = <f32>(x + h)
    while (a + 3 < end && load<f32>(X + ((<usize>(a + 3)) << 2)) < from) a += 4
    if (a >= end || load<f32>(X + ((<usize>a) << 2)) > top) continue
    store<i32>(pieceFrom + n, a)
    store<i32>(pieceEnd + n, end)
    store<f32>(pieceTop + n, top)
    n += 4
  }
  return <i32>(n >> 2)
}
