import { MathUtils, Matrix4, Spherical, Vector3, type Box3, type PerspectiveCamera } from 'three'

/** Where one looks from, and what one turns about. z is up. */
export interface Viewpoint {
  camera: PerspectiveCamera
  controls: { target: Vector3; update(): unknown }
}

/** Looks at all of a box, from the direction given or as before. False: there is nothing to look at. */
export function frameOn({ camera, controls }: Viewpoint, b: Box3, direction?: Vector3): boolean {
  if (b.isEmpty()) return false
  const centre = b.getCenter(new Vector3())
  const radius = b.getSize(new Vector3()).length() / 2 || 10
  const d = direction ?? camera.position.clone().sub(controls.target).normalize()
  const right = new Vector3().crossVectors(camera.up, d).normalize()
  const up = new Vector3().crossVectors(d, right)
  const tall = Math.tan((camera.fov * Math.PI) / 360)
  let distance = 0.1 * radius
  for (let i = 0; i < 8; i++) {
    const c = new Vector3(i & 1 ? b.max.x : b.min.x, i & 2 ? b.max.y : b.min.y, i & 4 ? b.max.z : b.min.z).sub(centre)
    distance = Math.max(distance, c.dot(d) + Math.max(Math.abs(c.dot(up)) / tall, Math.abs(c.dot(right)) / (tall * camera.aspect)))
  }
  distance *= 1.08
  controls.target.copy(centre)
  camera.position.copy(centre).addScaledVector(d, distance)
  camera.near = Math.max(0.1, distance - 6 * radius)
  camera.far = distance + 12 * radius
  camera.updateProjectionMatrix()
  controls.update()
  return true
}

/**
 * Whether the old framing does not suit what is shown. The same things (cleaned, moved) must be much smaller, larger or elsewhere, so that a step does
 * not make the picture jump; of other things the view is what it would have been without the former: it must not depend on what came first.
 */
export function isOther(now: Box3, then: Box3, same: boolean): boolean {
  if (now.isEmpty() || then.isEmpty()) return !now.isEmpty()
  if (!same) return !now.equals(then)
  const [a, b] = [now, then].map((x) => x.getSize(new Vector3()).length())
  const apart = now.getCenter(new Vector3()).distanceTo(then.getCenter(new Vector3()))
  return a < 0.75 * b || a > 1.2 * b || apart > 0.25 * a
}

/** Front, right, back, left, above, below: 1 to 6. */
export function standardDirection(view: number): Vector3 | undefined {
  const d = [
    [0, -1, 0],
    [1, 0, 0],
    [0, 1, 0],
    [-1, 0, 0],
    [0, -0.001, 1],
    [0, -0.001, -1],
  ][view - 1] as [number, number, number] | undefined
  return d && new Vector3(...d).normalize()
}

/** To the right and down, degrees. */
export function turnBy({ camera, controls }: Viewpoint, right: number, down: number): void {
  const away = camera.position.clone().sub(controls.target)
  const s = new Spherical().setFromVector3(new Vector3(away.x, away.z, -away.y))
  s.theta += MathUtils.degToRad(right)
  s.phi = MathUtils.clamp(s.phi - MathUtils.degToRad(down), 0.001, Math.PI - 0.001)
  const to = new Vector3().setFromSpherical(s)
  camera.position.copy(controls.target).add(new Vector3(to.x, -to.z, to.y))
  controls.update()
}

/** So many times. */
export function comeNearer({ camera, controls }: Viewpoint, times: number): void {
  camera.position.sub(controls.target).divideScalar(times).add(controls.target)
  controls.update()
}

/** Turns about this place from now on; the picture shifts with it. */
export function pivotOn({ camera, controls }: Viewpoint, at: number[]): void {
  const to = new Vector3(at[0], at[1], at[2])
  camera.position.add(to.clone().sub(controls.target))
  controls.target.copy(to)
  controls.update()
}

/** How large what lies at the place one turns about is drawn, and where the axes of the job point: right, up and towards whoever looks. height: px. */
export function bearingsOf({ camera, controls }: Viewpoint, height: number): { mmPerPixel: number; axes: [number, number, number][] } {
  const away = camera.position.distanceTo(controls.target)
  const m = camera.matrixWorldInverse.elements
  return {
    mmPerPixel: (2 * away * Math.tan((camera.fov * Math.PI) / 360)) / height,
    axes: [0, 1, 2].map((k) => [m[4 * k], m[4 * k + 1], m[4 * k + 2]]),
  }
}

/** The line of sight through a place of the window, in the job. */
export function rayThrough(
  camera: PerspectiveCamera,
  canvas: DOMRect,
  clientX: number,
  clientY: number,
): { origin: [number, number, number]; direction: [number, number, number] } {
  const place = new Vector3((2 * (clientX - canvas.left)) / canvas.width - 1, 1 - (2 * (clientY - canvas.top)) / canvas.height, 0.5)
  const d = place.unproject(camera).sub(camera.position).normalize()
  return { origin: [camera.position.x, camera.position.y, camera.position.z], direction: [d.x, d.y, d.z] }
}

/** Job coordinates to clip space, row major, and the direction of the view. */
export function projectionOf(camera: PerspectiveCamera): { view: number[]; depth: [number, number, number] } {
  const m = new Matrix4().multiplyMatrices(camera.projectionMatrix, camera.matrixWorldInverse).transpose()
  const d = camera.getWorldDirection(new Vector3())
  return { view: m.toArray(), depth: [d.x, d.y, d.z] }
}
