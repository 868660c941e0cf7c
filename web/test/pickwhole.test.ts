import { describe, expect, test } from '@jest/globals'
import { Matrix4, PerspectiveCamera, Vector3 } from 'three'
import { drawClouds, nearestIn, type Cloud, type Window } from '../src/view/pickwhole.ts'

const REACH = 12
const SIDE = 2 * REACH + 1
const [W, H] = [800, 600]

/** A level square of points around the origin of its own coordinates. */
function sheet(half: number, spacing: number): Float32Array {
  const p: number[] = []
  for (let x = -half; x <= half; x += spacing) for (let y = -half; y <= half; y += spacing) p.push(x, y, 0)
  return Float32Array.from(p)
}
const camera = new PerspectiveCamera(28, W / H, 0.5, 20_000)
camera.up.set(0, 0, 1)
camera.position.set(120, -200, 260)
camera.lookAt(new Vector3(20, 0, 0))
camera.updateMatrixWorld(true)
const pixels = H / (2 * Math.tan((28 * Math.PI) / 360))

const cloud = (object: number, toJob: Matrix4, spacing: number, ...pieces: Float32Array[]): Cloud => ({
  pieces,
  toJob: toJob.elements,
  toEye: new Matrix4().multiplyMatrices(camera.matrixWorldInverse, toJob).elements,
  spacing,
  object,
})
async function look(x: number, y: number, clouds: Cloud[], window?: Window) {
  const w = window ?? { reach: REACH, depth: new Float64Array(SIDE * SIDE).fill(Infinity), hit: new Float32Array(4 * SIDE * SIDE).fill(-1) }
  let pauses = 0
  await drawClouds(w, clouds, { x, y, w: W, h: H, pixels, near: 0.5, size: 3 }, () => Promise.resolve(void pauses++))
  const off = (...at: [number, number, number]) => {
    const [sx, sy] = seen(at)
    return (sx - x) ** 2 + (sy - y) ** 2
  }
  const k = 4 * nearestIn(w, (object) => (object === 7 ? 0 : 3 * clouds[0].spacing), off)
  return k < 0 ? { at: [], object: -1, pauses } : { at: [...w.hit.subarray(k, k + 3)], object: w.hit[k + 3], pauses }
}
/** px from the upper left */
function seen(at: number[]): [number, number] {
  const v = new Vector3(...(at as [number, number, number])).project(camera)
  return [((v.x + 1) / 2) * W, ((1 - v.y) / 2) * H]
}

describe('a click on clouds that are at hand whole', () => {
  const level = new Matrix4()
  test('gives the point that is seen there, in the coordinates of the job, also of a pass that was moved', async () => {
    const moved = new Matrix4().makeRotationZ(0.4).setPosition(25, -8, 3)
    for (const [matrix, own] of [
      [level, [12, 7, 0]],
      [moved, [-20, 31, 0]],
    ] as const) {
      const at = new Vector3(...own).applyMatrix4(matrix).toArray()
      const got = await look(...seen(at), [cloud(65536, matrix, 1, sheet(50, 1))])
      expect(got.object).toBe(65536)
      got.at.forEach((v, k) => expect(v).toBeCloseTo(at[k], 4))
    }
  })
  test('what lies behind is covered, whichever comes first; what is nearer than the picture begins is not there', async () => {
    const above = new Matrix4().setPosition(0, 0, 40)
    const [front, back] = [cloud(2 * 65536, above, 1, sheet(50, 1)), cloud(65536, level, 0.1, sheet(60, 0.5))]
    const spot = seen([0, 0, 40])
    for (const order of [
      [front, back],
      [back, front],
    ]) {
      const got = await look(...spot, order)
      expect(got.object).toBe(2 * 65536)
      expect(got.at[2]).toBeCloseTo(40, 4)
    }
    const behind = cloud(3 * 65536, new Matrix4().setPosition(120, -200, 270), 1, sheet(2, 1))
    expect((await look(W / 2, H / 2, [behind])).object).toBe(-1)
  })
  test('a surface the graphics card drew counts as well', async () => {
    const spot = seen([0, 0, 0])
    const window = () => ({ reach: REACH, depth: new Float64Array(SIDE * SIDE).fill(Infinity), hit: new Float32Array(4 * SIDE * SIDE).fill(-1) })
    const away = -new Vector3(0, 0, 0).applyMatrix4(camera.matrixWorldInverse).z
    for (const [depth, wins] of [
      [away - 5, 7],
      [away + 5, 65536],
    ]) {
      const w = window()
      w.depth.fill(depth)
      for (let k = 3; k < w.hit.length; k += 4) w.hit[k] = 7
      expect((await look(...spot, [cloud(65536, level, 1, sheet(20, 1))], w)).object).toBe(wins)
    }
  })
  test('strays before the surface are not met: points that stand alone count only where there is nothing else', async () => {
    const spot = seen([0, 0, 0])
    // on the line of sight to the place, each 10 mm nearer to the eye, and around it
    const eye = camera.position.clone().normalize()
    const strays = Float32Array.from(
      [1, 2, 3, 4].flatMap((k) =>
        eye
          .clone()
          .multiplyScalar(10 * k)
          .add(new Vector3(0.3 * k, -0.2 * k, 0))
          .toArray(),
      ),
    )
    for (const spacing of [0.1, 1, 3]) {
      const got = await look(...spot, [cloud(65536, level, spacing, sheet(40, spacing), strays)])
      expect(Math.abs(got.at[2])).toBeLessThan(1e-4)
      expect(Math.hypot(...got.at)).toBeLessThan(2 * Math.max(spacing, 0.4))
    }
    expect((await look(...spot, [cloud(65536, level, 1, strays)])).at[2]).toBeGreaterThan(5)
  })
  test('a wall seen along its edge is met, and a thin sheet before another', async () => {
    const upright = new Matrix4().makeRotationX(Math.PI / 2)
    const wall = await look(...seen([10, 0, 10]), [cloud(65536, upright, 1, sheet(20, 1))])
    expect(Math.abs(wall.at[1])).toBeLessThan(1e-4)
    const over = new Matrix4().setPosition(0, 0, 1.5)
    const got = await look(...seen([5, 5, 1.5]), [cloud(65536, level, 0.5, sheet(30, 0.5)), cloud(2 * 65536, over, 0.5, sheet(30, 0.5))])
    expect(got.at[2]).toBeCloseTo(1.5, 4)
  })
  test('further than 12 px from every point there is nothing', async () => {
    const far = cloud(65536, level, 0, sheet(60, 30))
    const [x, y] = seen([15, 15, 0])
    expect((await look(x, y, [far])).object).toBe(-1)
    expect((await look(5, 5, [far])).object).toBe(-1)
  })
  test('a large cloud lets the page breathe', async () => {
    const piece = sheet(50, 0.1)
    const got = await look(...seen([0, 0, 0]), [cloud(65536, level, 0.1, ...Array<Float32Array>(12).fill(piece))])
    expect(got.pauses).toBeGreaterThan(1)
    // three points to a pixel: to a pixel and a half
    expect(Math.hypot(...got.at)).toBeLessThan(1.5 / (pixels / camera.position.length()))
  })
})
