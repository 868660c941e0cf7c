import { GrowF32, GrowU8 } from '../base/arrays.ts'
import { seeded } from '../base/random.ts'
import { cameraToArray, project, type Stereo } from '../calibrate/camera.ts'
import { triangulate } from '../calibrate/triangulate.ts'
import { eyesOf, rayPattern, type PatternOptions } from './pattern.ts'
import { tintOf } from './printed.ts'
import { castScene, emptyHit, type Material, type Thing } from './scene.ts'
import type { ScannerSpec } from './spec.ts'

export interface ShotOptions extends PatternOptions {
  /** left camera to world, in the middle of the exposure */
  pose: ArrayLike<number>
  /** by how much the pose changes from the beginning of the exposure to its end, 12 numbers of its three rows. Default: it stands */
  motion?: ArrayLike<number>
  /** 1: matt white at the ideal distance is well exposed */
  exposure: number
  /** standard deviation of a located pixel in good light, px. Default 0.03 */
  noise?: number
  /** of so many parts of its rays only this one, from 0: a long shot in pieces. Default all */
  part?: { of: number; number: number }
  /** the camera tells red, green and blue apart. Default false */
  colour?: boolean
}

export interface Shot {
  /** as computed with the believed optics, in the believed left camera, 3N mm */
  xyz: Float32Array
  /** brightness seen, 0..255 */
  intensity: Uint8Array
  /** red, green and blue seen, 0..255, 3N, where the camera tells them */
  colours?: Uint8Array
  /** mean distance by which the two rays of a point pass each other, px: grows when the calibration is off */
  rayGap: number
  /** share of the light that met a surface but was too dark, and that was too bright, 0..1 */
  dark: number
  bright: number
}

const STEEPEST = Math.cos((72 * Math.PI) / 180)
/** white, matt, straight on, ideal distance, exposure 1 */
const WHITE = 200
const DARKEST = 9
/** rays that miss each other by more are taken for two different points, px */
const MISMATCH = 2.5
/** a surface mirrors its neighbours from so much gloss on */
const MIRRORS = 0.2
/** share of its light that a mirror-like surface hands on */
const HANDED_ON = 0.6
/** mm off the surface where rays begin */
const OFF = 0.02
/** deviation of a level: of reading it, and of its own light, per root of it */
const GRAIN = 1
const GRAINY = 0.15

/**
 * One shot of a stand-in: light from a projector between two cameras, seen by both through their true optics, located with noise
 * that grows in poor light, and computed back with the optics that are believed. What is too dark drops out, what is too bright blooms
 * into false points, what lets light in is seen too deep, what is glossy shows its neighbours behind itself (area patterns), and what is
 * seen while the scanner moves lies where it was seen. Deterministic for a seed. Throws nothing.
 * Measured: 4.4 us a ray of a part on its table in a slow hour, 10 before it was written without arrays of three (npm run bench -- capture).
 */
export function takeShot(spec: Pick<ScannerSpec, 'range'>, truth: Stereo, believed: Stereo, things: Thing[], o: ShotOptions): Shot {
  const left = cameraToArray(truth.left)
  const right = cameraToArray(truth.right)
  const bl = cameraToArray(believed.left)
  const br = cameraToArray(believed.right)
  const { of, number } = o.part ?? { of: 1, number: 0 }
  const random = seeded(o.seed + 15_485_863 * number)
  // levels are told with noise of their own: where points lie does not depend on it
  const grain = seeded(o.seed + 32_452_843 + number)
  const channels = seeded(o.seed + 49_979_687 + number)
  const noise = o.noise ?? 0.03
  const rig = truth.pose
  const eyes = eyesOf(truth)
  const pattern = rayPattern(truth, o)
  const [fx, fy, fz] = pattern.from
  const pose = Float64Array.from(o.pose)
  const hit = emptyHit()
  const mirrored = emptyHit()
  const xyz = new GrowF32(4096)
  const intensity = new GrowU8()
  const colours = o.colour ? new GrowU8() : undefined
  const tint = new Float64Array(3)
  const ray = new Float64Array(3)
  const uvL = new Float64Array(2)
  const uvR = new Float64Array(2)
  const point = new Float64Array(4)
  const from = new Float64Array(3)
  const at = new Float64Array(3)
  const to = new Float64Array(3)
  const n = new Float64Array(3)
  // direction from the surface to each eye, unit, with its cosine and length
  const view = new Float64Array(15)
  let [gap, lit, dark, bright] = [0, 0, 0, 0]

  const free = (eye: ArrayLike<number>): boolean => {
    place(pose, eye[0], eye[1], eye[2], to)
    return between(things, at, to)
  }
  const end = Math.floor(((number + 1) * pattern.count) / of)
  for (let k = Math.floor((number * pattern.count) / of); k < end; k++) {
    if (o.motion) {
      const s = random.next() - 0.5
      for (let i = 0; i < 12; i++) pose[i] = o.pose[i] + s * o.motion[i]
    }
    pattern.ray(k, ray)
    const [dx, dy, dz] = ray
    place(pose, fx, fy, fz, from)
    turn(pose, dx, dy, dz, to)
    hit.t = 1.15 * spec.range.far
    hit.material = undefined
    castScene(things, from, to, hit)
    if (!hit.material) continue
    const material: Material = hit.material
    let t = hit.t
    // in left camera coordinates from here on
    let x = fx + t * dx
    let y = fy + t * dy
    let z = fz + t * dz
    if (z < 0.87 * spec.range.near) continue
    n[0] = pose[0] * hit.nx + pose[4] * hit.ny + pose[8] * hit.nz
    n[1] = pose[1] * hit.nx + pose[5] * hit.ny + pose[9] * hit.nz
    n[2] = pose[2] * hit.nx + pose[6] * hit.ny + pose[10] * hit.nz
    let steep = false
    for (let e = 0; e < 3; e++) {
      const ux = eyes[e][0] - x
      const uy = eyes[e][1] - y
      const uz = eyes[e][2] - z
      const l = Math.sqrt(ux * ux + uy * uy + uz * uz)
      view[5 * e] = ux / l
      view[5 * e + 1] = uy / l
      view[5 * e + 2] = uz / l
      view[5 * e + 3] = (ux * n[0] + uy * n[1] + uz * n[2]) / l
      view[5 * e + 4] = l
      steep ||= view[5 * e + 3] < STEEPEST
    }
    if (steep) continue
    project(left, x, y, z, uvL)
    projectRight(right, rig, x, y, z, uvR)
    if (!inside(uvL, truth.left.width, truth.left.height) || !inside(uvR, truth.right.width, truth.right.height)) continue
    for (let i = 0; i < 3; i++) at[i] = from[i] + t * to[i]
    if (!free(eyes[0]) || !free(eyes[1]) || !free(eyes[2])) continue
    lit++
    const light = o.exposure * WHITE * (spec.range.ideal / view[14]) ** 2
    let { tone } = hit
    const even = material.albedo * hit.tone * (1 - 0.9 * material.seeThrough) * view[13]
    let level = light * (even + lobe(view, 0, n, material.gloss))
    let most = light * (even + lobe(view, 5, n, material.gloss))
    if (level > most) [level, most] = [most, level]
    if (material.gloss >= MIRRORS && o.pattern === 'area') {
      const second = mirror(things, at, from, hit.nx, hit.ny, hit.nz, mirrored) ? mirrored.material : undefined
      const echo = second ? HANDED_ON * material.gloss * o.exposure * WHITE * second.albedo * mirrored.tone * (spec.range.ideal / (t + mirrored.t)) ** 2 : 0
      // both cameras look at the same picture behind the surface, where it outshines the surface itself
      if (echo > light * even && echo > DARKEST) {
        t += mirrored.t
        x = fx + t * dx
        y = fy + t * dy
        z = fz + t * dz
        project(left, x, y, z, uvL)
        projectRight(right, rig, x, y, z, uvR)
        level = most = echo
        ;({ tone } = mirrored)
      }
    }
    if (level < DARKEST) {
      dark++
      continue
    }
    let sigma = noise * Math.sqrt(0.4 + 0.6 * (110 / Math.min(level, 255)))
    if (most > 255) {
      bright++
      // the blob of a saturated line is wide and lopsided; half of them are thrown away as such
      if (random.next() < 0.5) continue
      sigma *= 3 + 6 * Math.min(3, most / 255 - 1)
    }
    if (material.seeThrough > 0) {
      // light comes back from below the surface
      const depth = -0.5 * material.seeThrough * Math.log(1 - random.next())
      const [qx, qy, qz] = [x - depth * view[10], y - depth * view[11], z - depth * view[12]]
      project(left, qx, qy, qz, uvL)
      projectRight(right, rig, qx, qy, qz, uvR)
    }
    const ul = uvL[0] + sigma * random.gauss()
    const vl = uvL[1] + sigma * random.gauss()
    const ur = uvR[0] + sigma * random.gauss()
    triangulate(bl, br, believed.pose, ul, vl, ur, uvR[1] + sigma * random.gauss(), point)
    const miss = (point[3] / point[2]) * believed.left.fx
    if (!(miss < MISMATCH) || !(point[2] > 0)) continue
    gap += miss
    xyz.push3(point[0], point[1], point[2])
    intensity.push(seenAs(level, grain.gauss()))
    if (!colours) continue
    tintOf(tone, tint)
    for (let c = 0; c < 3; c++) colours.push(seenAs(tint[c] * level, channels.gauss()))
  }
  const out = xyz.done()
  return {
    xyz: out,
    intensity: intensity.done(),
    ...(colours ? { colours: colours.done() } : {}),
    rayGap: out.length ? (3 * gap) / out.length : 0,
    dark: lit ? dark / lit : 0,
    bright: lit ? bright / lit : 0,
  }
}

/** A level as it is read, with its noise. */
const seenAs = (level: number, gauss: number) => Math.min(255, Math.max(0, level + (GRAIN + GRAINY * Math.sqrt(level)) * gauss))
const inside = (uv: Float64Array, w: number, h: number) => uv[0] >= 0 && uv[1] >= 0 && uv[0] <= w - 1 && uv[1] <= h - 1

function place(m: Float64Array, x: number, y: number, z: number, out: Float64Array): void {
  turn(m, x, y, z, out)
  out[0] += m[3]
  out[1] += m[7]
  out[2] += m[11]
}
function turn(m: Float64Array, x: number, y: number, z: number, out: Float64Array): void {
  out[0] = m[0] * x + m[1] * y + m[2] * z
  out[1] = m[4] * x + m[5] * y + m[6] * z
  out[2] = m[8] * x + m[9] * y + m[10] * z
}
const projectRight = (c: Float64Array, m: ArrayLike<number>, x: number, y: number, z: number, out: Float64Array) =>
  project(c, m[0] * x + m[1] * y + m[2] * z + m[3], m[4] * x + m[5] * y + m[6] * z + m[7], m[8] * x + m[9] * y + m[10] * z + m[11], out)

/** The lobe around the mirror direction (Blinn 1977), of the lamp as one eye sees it. v: where that eye stands in `view`; the lamp stands at 10. */
function lobe(view: Float64Array, v: number, n: Float64Array, gloss: number): number {
  if (gloss === 0) return 0
  const hx = view[v] + view[10]
  const hy = view[v + 1] + view[11]
  const hz = view[v + 2] + view[12]
  const nh = (hx * n[0] + hy * n[1] + hz * n[2]) / Math.sqrt(hx * hx + hy * hy + hz * hz)
  return nh > 0 ? 2.5 * gloss * nh ** 160 : 0
}

const start = new Float64Array(3)
const way = new Float64Array(3)
const block = emptyHit()
/** Whether nothing lies between a surface and an eye, in the world. */
function between(things: Thing[], at: Float64Array, to: Float64Array): boolean {
  let l = 0
  for (let i = 0; i < 3; i++) {
    way[i] = to[i] - at[i]
    l += way[i] * way[i]
  }
  l = Math.sqrt(l)
  for (let i = 0; i < 3; i++) {
    way[i] /= l
    start[i] = at[i] + OFF * way[i]
  }
  block.t = l
  castScene(things, start, way, block)
  return block.t >= l
}

/** What an eye sees mirrored in a surface, in the world. */
function mirror(things: Thing[], at: Float64Array, eye: Float64Array, nx: number, ny: number, nz: number, hit: ReturnType<typeof emptyHit>): boolean {
  let l = 0
  for (let i = 0; i < 3; i++) {
    way[i] = at[i] - eye[i]
    l += way[i] * way[i]
  }
  l = Math.sqrt(l)
  const c = (2 * (way[0] * nx + way[1] * ny + way[2] * nz)) / l
  way[0] = way[0] / l - c * nx
  way[1] = way[1] / l - c * ny
  way[2] = way[2] / l - c * nz
  for (let i = 0; i < 3; i++) start[i] = at[i] + OFF * way[i]
  hit.t = 200
  hit.material = undefined
  castScene(things, start, way, hit)
  return hit.material !== undefined
}
