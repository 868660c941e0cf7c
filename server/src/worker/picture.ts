import { PNG } from 'pngjs'
import { deviationColour, SWATCHES, type Rgb } from '@oak-gauge/contract'
import { rotateVector, transformPoint } from '@oak-gauge/core/base/mat4.ts'
import type { Item } from '@oak-gauge/core/operations/operation.ts'
import type { Arrays } from './pack.ts'

const W = 418
const H = 168
const GROUND: Rgb = [239, 230, 214]

/** The part as a small PNG (base64) for its card on the bench: the mesh, with its deviation when that is what was made, else the points. */
export async function paint(made: { item: Item; display: Arrays }[], inputs: Item[], limits: { limit: number; scale: number }): Promise<string | null> {
  const field = made.find((m) => m.item.data.kind === 'field')
  const mesh = made.find((m) => m.item.data.kind === 'mesh')
  const on = field
    ? inputs.find((i) => i.data.kind === 'mesh' && field.item.data.kind === 'field' && i.data.vertices.length / 3 === field.item.data.values.length)
    : mesh?.item
  const canvas = newCanvas()
  if (on?.data.kind === 'mesh') {
    const values = field?.item.data.kind === 'field' ? field.item.data.values : null
    const v = on.data.vertices
    const t = mesh && !field && mesh.display['triangles'] ? (mesh.display['triangles'] as Uint32Array) : on.data.triangles
    const p = mesh && !field && mesh.display['vertices'] ? (mesh.display['vertices'] as Float32Array) : v
    drawMesh(canvas, p, t, on.pose, values, limits)
  } else {
    const clouds = made.filter((m) => m.item.data.kind === 'points' && (m.display['xyz']?.length ?? 0) > 0)
    if (!clouds.length) return null
    drawPoints(canvas, clouds)
  }
  const png = new PNG({ width: W, height: H })
  png.data = canvas.rgba
  return new Promise((resolve, reject) => {
    const parts: Buffer[] = []
    png
      .pack()
      .on('data', (b: Buffer) => parts.push(b))
      .on('end', () => resolve(Buffer.concat(parts).toString('base64')))
      .on('error', reject)
  })
}

interface Canvas {
  rgba: Buffer
  depth: Float32Array
}

function newCanvas(): Canvas {
  const rgba = Buffer.alloc(4 * W * H)
  for (let i = 0; i < W * H; i++) rgba.set([...GROUND, 255], 4 * i)
  return { rgba, depth: new Float32Array(W * H).fill(-Infinity) }
}

// looking from the front right, from above
const RIGHT = [0.8, 0.6, 0]
const BACK = [0.6 * 0.82, -0.8 * 0.82, 0.572]
const UP = [BACK[1] * RIGHT[2] - BACK[2] * RIGHT[1], BACK[2] * RIGHT[0] - BACK[0] * RIGHT[2], BACK[0] * RIGHT[1] - BACK[1] * RIGHT[0]]
const on = (a: number[], x: number, y: number, z: number) => a[0] * x + a[1] * y + a[2] * z

/** Screen places (x, y, depth) of points, fitted to the picture. */
function project(lists: { xyz: Float32Array; pose: ArrayLike<number> }[]): Float32Array[] {
  let [ax, ay, bx, by] = [Infinity, Infinity, -Infinity, -Infinity]
  const out = lists.map(({ xyz, pose }) => {
    const s = new Float32Array(xyz.length)
    for (let i = 0; i < xyz.length; i += 3) {
      const [x, y, z] = transformPoint(pose, xyz[i], xyz[i + 1], xyz[i + 2])
      s[i] = on(RIGHT, x, y, z)
      s[i + 1] = on(UP, x, y, z)
      s[i + 2] = on(BACK, x, y, z)
      ax = Math.min(ax, s[i])
      bx = Math.max(bx, s[i])
      ay = Math.min(ay, s[i + 1])
      by = Math.max(by, s[i + 1])
    }
    return s
  })
  const k = Math.min((0.82 * W) / Math.max(1e-9, bx - ax), (0.86 * H) / Math.max(1e-9, by - ay))
  for (const s of out)
    for (let i = 0; i < s.length; i += 3) {
      s[i] = W / 2 + k * (s[i] - (ax + bx) / 2)
      s[i + 1] = H / 2 - k * (s[i + 1] - (ay + by) / 2)
      s[i + 2] *= k
    }
  return out
}

function put(c: Canvas, x: number, y: number, depth: number, colour: Rgb, light: number): void {
  if (x < 0 || y < 0 || x >= W || y >= H) return
  const i = y * W + x
  if (depth <= c.depth[i]) return
  c.depth[i] = depth
  for (let k = 0; k < 3; k++) c.rgba[4 * i + k] = Math.min(255, colour[k] * light)
}

function drawMesh(
  c: Canvas,
  v: Float32Array,
  t: Uint32Array,
  pose: ArrayLike<number>,
  values: Float32Array | null,
  limits: { limit: number; scale: number },
): void {
  const [s] = project([{ xyz: v, pose }])
  for (let i = 0; i < t.length; i += 3) {
    const [p, q, r] = [3 * t[i], 3 * t[i + 1], 3 * t[i + 2]]
    const ux = s[q] - s[p],
      uy = s[q + 1] - s[p + 1],
      uz = s[q + 2] - s[p + 2]
    const wx = s[r] - s[p],
      wy = s[r + 1] - s[p + 1],
      wz = s[r + 2] - s[p + 2]
    const area = ux * wy - uy * wx
    if (area === 0) continue
    const nx = uy * wz - uz * wy,
      ny = uz * wx - ux * wz
    const l = Math.hypot(nx, ny, area)
    const light = 0.62 + 0.4 * Math.max(0, (-0.35 * nx + 0.45 * ny + 0.8 * Math.abs(area)) / l)
    const colour = values ? deviationColour(values[t[i]], limits.limit, limits.scale) : ([196, 178, 150] as const)
    const x0 = Math.max(0, Math.ceil(Math.min(s[p], s[q], s[r]))),
      x1 = Math.min(W - 1, Math.floor(Math.max(s[p], s[q], s[r])))
    const y0 = Math.max(0, Math.ceil(Math.min(s[p + 1], s[q + 1], s[r + 1]))),
      y1 = Math.min(H - 1, Math.floor(Math.max(s[p + 1], s[q + 1], s[r + 1])))
    if (x1 < x0 || y1 < y0) {
      put(c, Math.round(s[p]), Math.round(s[p + 1]), s[p + 2], colour, light)
      continue
    }
    for (let y = y0; y <= y1; y++)
      for (let x = x0; x <= x1; x++) {
        const a = ((x - s[p]) * wy - (y - s[p + 1]) * wx) / area
        const b = (ux * (y - s[p + 1]) - uy * (x - s[p])) / area
        if (a >= 0 && b >= 0 && a + b <= 1) put(c, x, y, s[p + 2] + a * uz + b * wz, colour, light)
      }
  }
}

/** Points read as a surface by their shading; those of one pass have one colour. */
function drawPoints(c: Canvas, clouds: { item: Item; display: Arrays }[]): void {
  const screens = project(clouds.map((m) => ({ xyz: m.display['xyz'] as Float32Array, pose: m.item.pose })))
  screens.forEach((s, k) => {
    const n = clouds[k].display['normals'] as Float32Array | undefined
    const { pose } = clouds[k].item
    for (let i = 0; i < s.length; i += 3) {
      let light = 1
      if (n) {
        const [x, y, z] = rotateVector(pose, n[i], n[i + 1], n[i + 2])
        light = 0.72 + 0.5 * Math.max(0, 0.35 * on(RIGHT, x, y, z) + 0.5 * on(UP, x, y, z) + 0.75 * on(BACK, x, y, z))
      }
      put(c, Math.round(s[i]), Math.round(s[i + 1]), s[i + 2], SWATCHES[k % SWATCHES.length], light)
    }
  })
}
