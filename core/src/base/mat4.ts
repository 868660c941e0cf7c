/**
 * Rigid poses as 16 numbers, row major, column vectors: p' = R p + t. A pose maps local to parent.
 * Vectors are three consecutive numbers of a flat array.
 */
export type Mat4 = Float64Array

export function identity(): Mat4 {
  return Float64Array.of(1, 0, 0, 0, 0, 1, 0, 0, 0, 0, 1, 0, 0, 0, 0, 1)
}

export function isIdentity(m: ArrayLike<number>): boolean {
  for (let i = 0; i < 16; i++) if (m[i] !== (i % 5 === 0 ? 1 : 0)) return false
  return true
}

export function translation(x: number, y: number, z: number): Mat4 {
  return Float64Array.of(1, 0, 0, x, 0, 1, 0, y, 0, 0, 1, z, 0, 0, 0, 1)
}

/** a after b. */
export function multiply(a: ArrayLike<number>, b: ArrayLike<number>): Mat4 {
  const m = new Float64Array(16)
  for (let i = 0; i < 4; i++)
    for (let j = 0; j < 4; j++) {
      let s = 0
      for (let k = 0; k < 4; k++) s += a[4 * i + k] * b[4 * k + j]
      m[4 * i + j] = s
    }
  return m
}

/** Inverse of a rigid pose (rotation part orthonormal). */
export function invertRigid(m: ArrayLike<number>): Mat4 {
  const r = identity()
  for (let i = 0; i < 3; i++) {
    for (let j = 0; j < 3; j++) r[4 * i + j] = m[4 * j + i]
    r[4 * i + 3] = -(m[i] * m[3] + m[4 + i] * m[7] + m[8 + i] * m[11])
  }
  return r
}

export function transformPoint(m: ArrayLike<number>, x: number, y: number, z: number): [number, number, number] {
  return [m[0] * x + m[1] * y + m[2] * z + m[3], m[4] * x + m[5] * y + m[6] * z + m[7], m[8] * x + m[9] * y + m[10] * z + m[11]]
}

export function rotateVector(m: ArrayLike<number>, x: number, y: number, z: number): [number, number, number] {
  return [m[0] * x + m[1] * y + m[2] * z, m[4] * x + m[5] * y + m[6] * z, m[8] * x + m[9] * y + m[10] * z]
}

/** out = m * xyz for 3N points; `direction` leaves the translation out. out may be xyz. */
export function transformArray(m: ArrayLike<number>, xyz: Float32Array, out: Float32Array, direction = false): Float32Array {
  const [a, b, c, d0, e, f, g, h0, i, j, k, l0] = [m[0], m[1], m[2], m[3], m[4], m[5], m[6], m[7], m[8], m[9], m[10], m[11]]
  const d = direction ? 0 : d0
  const h = direction ? 0 : h0
  const l = direction ? 0 : l0
  for (let p = 0; p < xyz.length; p += 3) {
    const x = xyz[p]
    const y = xyz[p + 1]
    const z = xyz[p + 2]
    out[p] = a * x + b * y + c * z + d
    out[p + 1] = e * x + f * y + g * z + h
    out[p + 2] = i * x + j * y + k * z + l
  }
  return out
}

/** Rotation vector (radians) and translation to a pose; exact exponential of the rotation (Rodrigues 1840). */
export function fromRotationVector(rx: number, ry: number, rz: number, tx = 0, ty = 0, tz = 0): Mat4 {
  const t2 = rx * rx + ry * ry + rz * rz
  const t = Math.sqrt(t2)
  const s = t < 1e-8 ? 1 - t2 / 6 : Math.sin(t) / t
  const c = t < 1e-8 ? 0.5 - t2 / 24 : (1 - Math.cos(t)) / t2
  const k = 1 - c * t2
  return Float64Array.of(
    k + c * rx * rx,
    c * rx * ry - s * rz,
    c * rx * rz + s * ry,
    tx,
    c * rx * ry + s * rz,
    k + c * ry * ry,
    c * ry * rz - s * rx,
    ty,
    c * rx * rz - s * ry,
    c * ry * rz + s * rx,
    k + c * rz * rz,
    tz,
    0,
    0,
    0,
    1,
  )
}

/** Rotation vector (radians) of a pose's rotation part; exact for small angles, and up to a half turn short of it. */
export function rotationVector(m: ArrayLike<number>): [number, number, number] {
  const v: [number, number, number] = [(m[9] - m[6]) / 2, (m[2] - m[8]) / 2, (m[4] - m[1]) / 2]
  const s = Math.sqrt(v[0] * v[0] + v[1] * v[1] + v[2] * v[2])
  const angle = Math.atan2(s, (m[0] + m[5] + m[10] - 1) / 2)
  const f = s > 1e-12 ? angle / s : 1
  return [v[0] * f, v[1] * f, v[2] * f]
}

/** A motion done `times` (0.5: half of it), along its screw: its turn about the axis and its slide along it grow alike (Murray, Li and Sastry 1994, 2.3). */
export function motionTimes(m: ArrayLike<number>, times: number): Mat4 {
  const w = rotationVector(m)
  const angle = Math.hypot(w[0], w[1], w[2])
  const t = [m[3], m[7], m[11]]
  if (angle < 1e-9) return translation(times * t[0], times * t[1], times * t[2])
  const axis = w.map((v) => v / angle)
  const across = (v: readonly number[]) => [axis[1] * v[2] - axis[2] * v[1], axis[2] * v[0] - axis[0] * v[2], axis[0] * v[1] - axis[1] * v[0]]
  // from the shift to what slides and turns: the inverse of V below
  const first = across(t)
  const second = across(first)
  const half = angle / 2
  const u = t.map((v, k) => v - half * first[k] + (1 - half / Math.tan(half)) * second[k])
  const a = angle * times
  const f = across(u)
  const g = across(f)
  const shift = u.map((v, k) => (a * v + (1 - Math.cos(a)) * f[k] + (a - Math.sin(a)) * g[k]) / angle)
  return fromRotationVector(times * w[0], times * w[1], times * w[2], shift[0], shift[1], shift[2])
}

/** Unit quaternion [w, x, y, z] and translation to a pose. */
export function fromQuaternion(q: ArrayLike<number>, t: ArrayLike<number> = [0, 0, 0]): Mat4 {
  const n = Math.hypot(q[0], q[1], q[2], q[3])
  const [w, x, y, z] = [q[0] / n, q[1] / n, q[2] / n, q[3] / n]
  return Float64Array.of(
    1 - 2 * (y * y + z * z),
    2 * (x * y - w * z),
    2 * (x * z + w * y),
    t[0],
    2 * (x * y + w * z),
    1 - 2 * (x * x + z * z),
    2 * (y * z - w * x),
    t[1],
    2 * (x * z - w * y),
    2 * (y * z + w * x),
    1 - 2 * (x * x + y * y),
    t[2],
    0,
    0,
    0,
    1,
  )
}

/** Angle of the rotation part, degrees; accurate for tiny angles as well (from the skew part, not the trace). */
export function rotationAngleDeg(m: ArrayLike<number>): number {
  const s = Math.hypot(m[9] - m[6], m[2] - m[8], m[4] - m[1]) / 2
  const c = (m[0] + m[5] + m[10] - 1) / 2
  return (Math.atan2(s, c) * 180) / Math.PI
}

/** Whether it moves and turns things without bending, stretching or mirroring them; rows may be off by what four digits round. */
export function isRigid(m: ArrayLike<number>): boolean {
  const row = (a: number, b: number) => m[4 * a] * m[4 * b] + m[4 * a + 1] * m[4 * b + 1] + m[4 * a + 2] * m[4 * b + 2]
  for (let i = 0; i < 12; i++) if (!Number.isFinite(m[i])) return false
  for (let a = 0; a < 3; a++) for (let b = 0; b <= a; b++) if (Math.abs(row(a, b) - (a === b ? 1 : 0)) > 1e-3) return false
  const det = m[0] * (m[5] * m[10] - m[6] * m[9]) - m[1] * (m[4] * m[10] - m[6] * m[8]) + m[2] * (m[4] * m[9] - m[5] * m[8])
  return det > 0
}

/** Small rotations pile up rounding: brings the rotation part back to orthonormal (Gram-Schmidt). */
export function orthonormalise(m: Mat4): Mat4 {
  let l = Math.hypot(m[0], m[1], m[2])
  m[0] /= l
  m[1] /= l
  m[2] /= l
  const d = m[0] * m[4] + m[1] * m[5] + m[2] * m[6]
  m[4] -= d * m[0]
  m[5] -= d * m[1]
  m[6] -= d * m[2]
  l = Math.hypot(m[4], m[5], m[6])
  m[4] /= l
  m[5] /= l
  m[6] /= l
  m[8] = m[1] * m[6] - m[2] * m[5]
  m[9] = m[2] * m[4] - m[0] * m[6]
  m[10] = m[0] * m[5] - m[1] * m[4]
  return m
}

/** Largest and rms distance that the pose difference a^-1 b makes to the eight corners of a box (mm). */
export function poseDifference(a: ArrayLike<number>, b: ArrayLike<number>, box: ArrayLike<number>): { rms: number; max: number; angleDeg: number } {
  let ss = 0
  let max = 0
  for (let c = 0; c < 8; c++) {
    const x = box[c & 1 ? 3 : 0]
    const y = box[c & 2 ? 4 : 1]
    const z = box[c & 4 ? 5 : 2]
    const p = transformPoint(a, x, y, z)
    const q = transformPoint(b, x, y, z)
    const d = Math.hypot(p[0] - q[0], p[1] - q[1], p[2] - q[2])
    ss += d * d
    if (d > max) max = d
  }
  return { rms: Math.sqrt(ss / 8), max, angleDeg: rotationAngleDeg(multiply(invertRigid(a), b)) }
}
