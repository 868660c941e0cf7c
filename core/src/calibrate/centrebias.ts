import { project } from './camera.ts'

const CORNERS = 24
/** a polygon a little outside of the circle, with the circle's second moments: then the first order of the bias comes out exactly */
const OUT = 1 / Math.sqrt(1 - (2 / 3) * Math.sin(Math.PI / CORNERS) ** 2)
const COS = Float64Array.from({ length: CORNERS }, (_, k) => OUT * Math.cos((2 * Math.PI * k) / CORNERS))
const SIN = Float64Array.from({ length: CORNERS }, (_, k) => OUT * Math.sin((2 * Math.PI * k) / CORNERS))

/**
 * How far the centre of a circle's image lies from the image of its centre, px: perspective enlarges the nearer half, and lens
 * distortion bends the outline (Heikkila 2000 gives the closed form of the first part). Here the outline is projected point by point
 * and its area's centroid taken, so that both are in it; with 24 corners good to 2e-4 px at the worst slants (core/test/dots.test.ts).
 * pose: plate to camera, 4x4. (x, y, z): the circle's centre on the plate, mm. out: two numbers to take from what was measured.
 */
export function centreBias(camera: ArrayLike<number>, pose: ArrayLike<number>, x: number, y: number, z: number, radius: number, out: Float64Array): void {
  const q = scratch
  at(camera, pose, x, y, z, q)
  const u0 = q[0]
  const v0 = q[1]
  let area = 0
  let cu = 0
  let cv = 0
  at(camera, pose, x + radius * COS[0], y, z, q)
  let pu = q[0] - u0
  let pv = q[1] - v0
  for (let k = 1; k <= CORNERS; k++) {
    at(camera, pose, x + radius * COS[k % CORNERS], y + radius * SIN[k % CORNERS], z, q)
    const nu = q[0] - u0
    const nv = q[1] - v0
    const cross = pu * nv - nu * pv
    area += cross
    cu += cross * (pu + nu)
    cv += cross * (pv + nv)
    pu = nu
    pv = nv
  }
  out[0] = cu / (3 * area)
  out[1] = cv / (3 * area)
}
const scratch = new Float64Array(2)

function at(camera: ArrayLike<number>, m: ArrayLike<number>, x: number, y: number, z: number, out: Float64Array): void {
  project(camera, m[0] * x + m[1] * y + m[2] * z + m[3], m[4] * x + m[5] * y + m[6] * z + m[7], m[8] * x + m[9] * y + m[10] * z + m[11], out)
}
