/**
 * Central projection with lens distortion after Brown (1971) and Conrady (1919): radial k1 k2 k3, tangential p1 p2.
 * Pixels: the centre of the upper left pixel is (0, 0), u to the right, v down. Camera coordinates: x right, y down, z forward, mm.
 */
export interface Camera {
  width: number
  height: number
  fx: number
  fy: number
  cx: number
  cy: number
  k1: number
  k2: number
  p1: number
  p2: number
  k3: number
}

/** The nine numbers that calibrating finds, in the order in which all flat arrays hold them. */
export const CAMERA_NUMBERS = ['fx', 'fy', 'cx', 'cy', 'k1', 'k2', 'p1', 'p2', 'k3'] as const
export type CameraNumber = (typeof CAMERA_NUMBERS)[number]

export const cameraToArray = (c: Camera): Float64Array => Float64Array.from(CAMERA_NUMBERS, (n) => c[n])
export function cameraFromArray(a: ArrayLike<number>, width: number, height: number): Camera {
  const c = { width, height } as Camera
  CAMERA_NUMBERS.forEach((n, i) => (c[n] = a[i]))
  return c
}

/**
 * Pixel of the point (x, y, z), mm in camera coordinates: out[0], out[1].
 * c: the nine numbers. Points behind the camera (z <= 0) give NaN.
 */
export function project(c: ArrayLike<number>, x: number, y: number, z: number, out: Float64Array): void {
  if (!(z > 0)) {
    out[0] = out[1] = NaN
    return
  }
  const a = x / z
  const b = y / z
  const r2 = a * a + b * b
  const radial = 1 + r2 * (c[4] + r2 * (c[5] + r2 * c[8]))
  out[0] = c[0] * (a * radial + 2 * c[6] * a * b + c[7] * (r2 + 2 * a * a)) + c[2]
  out[1] = c[1] * (b * radial + c[6] * (r2 + 2 * b * b) + 2 * c[7] * a * b) + c[3]
}

/**
 * As project, and the derivatives: jc (2 x 9, row major) by the nine numbers, jp (2 x 3) by the point.
 */
export function projectWithDerivatives(c: ArrayLike<number>, x: number, y: number, z: number, out: Float64Array, jc: Float64Array, jp: Float64Array): void {
  const iz = 1 / z
  const a = x * iz
  const b = y * iz
  const r2 = a * a + b * b
  const r4 = r2 * r2
  const r6 = r4 * r2
  const fx = c[0]
  const fy = c[1]
  const k1 = c[4]
  const k2 = c[5]
  const p1 = c[6]
  const p2 = c[7]
  const k3 = c[8]
  const radial = 1 + k1 * r2 + k2 * r4 + k3 * r6
  const slope = k1 + 2 * k2 * r2 + 3 * k3 * r4
  const xd = a * radial + 2 * p1 * a * b + p2 * (r2 + 2 * a * a)
  const yd = b * radial + p1 * (r2 + 2 * b * b) + 2 * p2 * a * b
  out[0] = fx * xd + c[2]
  out[1] = fy * yd + c[3]
  jc.fill(0)
  jc[0] = xd
  jc[2] = 1
  jc[4] = fx * a * r2
  jc[5] = fx * a * r4
  jc[6] = fx * 2 * a * b
  jc[7] = fx * (r2 + 2 * a * a)
  jc[8] = fx * a * r6
  jc[10] = yd
  jc[12] = 1
  jc[13] = fy * b * r2
  jc[14] = fy * b * r4
  jc[15] = fy * (r2 + 2 * b * b)
  jc[16] = fy * 2 * a * b
  jc[17] = fy * b * r6
  const dxa = radial + 2 * a * a * slope + 2 * p1 * b + 6 * p2 * a
  const dxb = 2 * a * b * slope + 2 * p1 * a + 2 * p2 * b
  const dyb = radial + 2 * b * b * slope + 6 * p1 * b + 2 * p2 * a
  const dya = 2 * a * b * slope + 2 * p1 * a + 2 * p2 * b
  jp[0] = fx * dxa * iz
  jp[1] = fx * dxb * iz
  jp[2] = -fx * (dxa * a + dxb * b) * iz
  jp[3] = fy * dya * iz
  jp[4] = fy * dyb * iz
  jp[5] = -fy * (dya * a + dyb * b) * iz
}

/**
 * The direction a pixel looks in: out[0], out[1] such that (out[0], out[1], 1) is the ray. Newton on the two distortion equations;
 * to 1e-12 within some five rounds for every lens that is one-to-one over its image.
 */
export function pixelRay(c: ArrayLike<number>, u: number, v: number, out: Float64Array): void {
  const xd = (u - c[2]) / c[0]
  const yd = (v - c[3]) / c[1]
  const k1 = c[4]
  const k2 = c[5]
  const p1 = c[6]
  const p2 = c[7]
  const k3 = c[8]
  let a = xd
  let b = yd
  for (let i = 0; i < 20; i++) {
    const r2 = a * a + b * b
    const radial = 1 + r2 * (k1 + r2 * (k2 + r2 * k3))
    const slope = k1 + r2 * (2 * k2 + 3 * k3 * r2)
    const ex = a * radial + 2 * p1 * a * b + p2 * (r2 + 2 * a * a) - xd
    const ey = b * radial + p1 * (r2 + 2 * b * b) + 2 * p2 * a * b - yd
    const xx = radial + 2 * a * a * slope + 2 * p1 * b + 6 * p2 * a
    const xy = 2 * a * b * slope + 2 * p1 * a + 2 * p2 * b
    const yy = radial + 2 * b * b * slope + 6 * p1 * b + 2 * p2 * a
    const det = xx * yy - xy * xy
    const da = (ex * yy - ey * xy) / det
    const db = (ey * xx - ex * xy) / det
    a -= da
    b -= db
    if (da * da + db * db < 1e-26) break
  }
  out[0] = a
  out[1] = b
}

/** Two cameras of one scanner. pose: 4x4, maps left camera coordinates to right ones. Scanner coordinates are those of the left camera. */
export interface Stereo {
  left: Camera
  right: Camera
  pose: number[]
}

/** Distance between the two centres of projection, mm. */
export const baselineOf = (pose: ArrayLike<number>): number => Math.hypot(pose[3], pose[7], pose[11])
