/** levels that say nothing: too dark, and at their end */
const DARKEST = 6
const BRIGHTEST = 254
/** tangent of the widest view: what lies further aside is a stray */
const WIDEST = 2.5
/** cells each way: of what lies far off they would be too many */
const MOST = 2000
/** points of which the depth of a frame is the median */
const SOME = 500

/** Brightness of a point (scanner coordinates): the logarithm of its level, less what distance takes of it; NaN where it says nothing. */
export function brightness(level: number, x: number, y: number, z: number): number {
  if (level < DARKEST || level > BRIGHTEST || !(Math.max(Math.abs(x), Math.abs(y)) < WIDEST * z)) return NaN
  return Math.log(level) + Math.log(x * x + y * y + z * z)
}

/**
 * What each point of a frame shows (3N mm, scanner coordinates; N levels), averaged over three cells of that side (mm) each way, as the brightness of a surface is:
 * compared with what it is alone, most of a difference would be the print between the cells. NaN where nothing is told.
 */
export function averaged(xyz: Float32Array, levels: Uint8Array, side: number): Float32Array {
  const n = levels.length
  const own = new Float32Array(n)
  let [u0, u1, v0, v1] = [Infinity, -Infinity, Infinity, -Infinity]
  const depths: number[] = []
  const some = Math.max(1, Math.floor(n / SOME))
  for (let i = 0; i < n; i++) {
    const x = xyz[3 * i]
    const y = xyz[3 * i + 1]
    const z = xyz[3 * i + 2]
    own[i] = brightness(levels[i], x, y, z)
    if (Number.isNaN(own[i])) continue
    u0 = Math.min(u0, x / z)
    u1 = Math.max(u1, x / z)
    v0 = Math.min(v0, y / z)
    v1 = Math.max(v1, y / z)
    if (i % some === 0) depths.push(z)
  }
  if (!depths.length) return own.fill(NaN)
  const cell = Math.max(side / depths.sort((a, b) => a - b)[depths.length >> 1], (u1 - u0) / MOST, (v1 - v0) / MOST)
  const w = Math.ceil((u1 - u0) / cell) + 3
  const h = Math.ceil((v1 - v0) / cell) + 3
  const cells = new Float32Array(2 * w * h)
  const at = (i: number) =>
    2 * ((Math.floor((xyz[3 * i + 1] / xyz[3 * i + 2] - v0) / cell) + 1) * w + Math.floor((xyz[3 * i] / xyz[3 * i + 2] - u0) / cell) + 1)
  for (let i = 0; i < n; i++) {
    if (Number.isNaN(own[i])) continue
    const c = at(i)
    cells[c]++
    cells[c + 1] += own[i]
  }
  // three cells one way, then the other
  const along = new Float32Array(2 * w * h)
  for (let c = 2; c < 2 * w * h - 2; c++) along[c] = cells[c - 2] + cells[c] + cells[c + 2]
  for (let i = 0; i < n; i++) {
    if (Number.isNaN(own[i])) continue
    const c = at(i)
    const count = along[c - 2 * w] + along[c] + along[c + 2 * w]
    own[i] = (along[c - 2 * w + 1] + along[c + 1] + along[c + 2 * w + 1]) / count
  }
  return own
}
