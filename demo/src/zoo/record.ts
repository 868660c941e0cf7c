import { cross } from '@oak-gauge/core/base/vec3.ts'
import { f32 } from '@oak-gauge/core/base/arrays.ts'
import { identity, invertRigid, multiply, transformArray, transformPoint, type Mat4 } from '@oak-gauge/core/base/mat4.ts'
import { seeded } from '@oak-gauge/core/base/random.ts'
import type { RunContext } from '@oak-gauge/core/base/run.ts'
import { scanRange } from '@oak-gauge/core/scanner/rangeview.ts'
import { transformMesh, type Mesh } from '@oak-gauge/core/shape/mesh.ts'
import { boundingBox, boxDiagonal, makePoints, type Points } from '@oak-gauge/core/shape/points.ts'
import { buildBvh } from '@oak-gauge/core/space/bvh.ts'
import { orbit, smallPose } from '../passes.ts'
import type { ZooPart } from './parts.ts'

/** Lengths of the zoo are those of a part of this size, and grow and shrink with the part, mm. */
const USUAL = 150

/** A part as a perfect scanner would record it in two setups: noise comes later, so that one recording serves many seeds. */
export interface ZooScene {
  part: ZooPart
  mesh: Mesh
  /** length that stands for one mm on a part of 150 mm */
  unit: number
  views: { setup: 0 | 1; eye: [number, number, number]; target: [number, number, number]; exact: Float32Array }[]
}

export interface ZooPass {
  name: string
  setup: 0 | 1
  points: Points
  /** brings the pass into the part's coordinates */
  truePose: Mat4
  /** what the scanner says: right within its setup but for its tracking error */
  pose: Mat4
}

const VIEWS: readonly (readonly [number, number])[][] = [
  [
    [15, 48],
    [105, 40],
    [195, 50],
    [285, 42],
  ],
  [
    [40, 45],
    [160, 40],
    [280, 48],
  ],
]

/** spacing: mm on a part of 150 mm. */
export async function zooScene(part: ZooPart, spacing: number, ctx: RunContext): Promise<ZooScene> {
  const mesh = await part.mesh()
  const box = boundingBox(mesh.vertices)
  const size = boxDiagonal(box)
  const unit = size / USUAL
  const views: ZooScene['views'] = []
  for (const setup of [0, 1] as const) {
    const lay = setup ? part.second : identity()
    const laid = transformMesh(mesh, lay)
    const bvh = buildBvh(laid, 'median')
    const b = boundingBox(laid.vertices)
    const middle: [number, number, number] = [(b[0] + b[3]) / 2, (b[1] + b[4]) / 2, (b[2] + b[5]) / 2]
    for (const [azimuth, elevation] of VIEWS[setup]) {
      const eye = orbit(azimuth, elevation, 2.6 * size, middle)
      const scan = await scanRange(
        laid,
        bvh,
        {
          eye,
          target: middle,
          pitch: spacing * unit,
          halfWidth: 0.52 * size,
          halfHeight: 0.52 * size,
          noise: 0,
          baseline: 0.35 * size,
          maxIncidence: 76,
          strays: 0,
          seed: 1,
        },
        ctx,
      )
      const back = invertRigid(lay)
      views.push({
        setup,
        eye: transformPoint(back, ...eye),
        target: transformPoint(back, ...middle),
        exact: transformArray(back, scan.truth, f32(scan.truth.length)),
      })
    }
  }
  return { part, mesh, unit, views }
}

export interface ZooNoise {
  /** standard deviation along the ray, mm on a part of 150 mm */
  sigma: number
  /** ripple and a smooth calibration field make up most of it */
  correlated: boolean
  seed: number
  /** error of the recorded poses within a setup, mm on a part of 150 mm */
  tracking: number
}

/** The passes of a scene with noise, each in coordinates of its own. */
export function zooPasses(scene: ZooScene, noise: ZooNoise): ZooPass[] {
  const random = seeded(noise.seed * 7919 + 13)
  const { unit, mesh } = scene
  const box = boundingBox(mesh.vertices)
  const middle: [number, number, number] = [(box[0] + box[3]) / 2, (box[1] + box[4]) / 2, (box[2] + box[5]) / 2]
  // where the second setup lies in the world of its own scanner: anywhere
  const away = smallPose(random, 40 + 100 * random.next(), 0.3 * USUAL * unit, middle)
  const counts = [0, 0]
  // one scanner has one calibration: its field is the same in all passes
  const field = smoothField(random)
  return scene.views.map((v) => {
    const error = noiseOf(noise, unit, random, field)
    const xyz = f32(v.exact.length)
    const d = [0, 1, 2].map((k) => v.target[k] - v.eye[k])
    const reach = Math.hypot(d[0], d[1], d[2])
    const f = d.map((x) => x / reach)
    const helper = Math.abs(f[2]) > 0.9 ? [1, 0, 0] : [0, 0, 1]
    const r = cross(f, helper)
    const rl = Math.hypot(r[0], r[1], r[2])
    const right = r.map((x) => x / rl)
    const up = cross(right, f)
    for (let i = 0; i < xyz.length; i += 3) {
      const q = [0, 1, 2].map((k) => v.exact[i + k] - v.eye[k])
      const l = Math.hypot(q[0], q[1], q[2])
      const [x, y, z] = [right, up, f].map((a) => a[0] * q[0] + a[1] * q[1] + a[2] * q[2])
      const e = error((x / z) * reach, (y / z) * reach, z - reach)
      for (let k = 0; k < 3; k++) xyz[i + k] = v.exact[i + k] + (q[k] / l) * e
    }
    // tracking: the pass thinks to be somewhere a little else; coordinates of its own besides
    const drift = smallPose(random, 0, noise.tracking * unit, middle)
    const turn = smallPose(random, (noise.tracking / USUAL) * 57, 0, middle)
    const own = smallPose(random, 20, 0.2 * USUAL * unit, middle)
    const back = invertRigid(own)
    const name = `Pass ${v.setup + 1}.${++counts[v.setup]}`
    return {
      name,
      setup: v.setup,
      points: makePoints({ xyz: transformArray(back, xyz, xyz), viewpoint: transformPoint(back, ...v.eye) }),
      truePose: own,
      pose: multiply(v.setup ? away : identity(), multiply(multiply(drift, turn), own)),
    }
  })
}

type Field = (x: number, y: number, z: number) => number

/** Waves as long as the field of view and down to a third of it: what a calibration leaves behind. Standard deviation 1. */
function smoothField(random: ReturnType<typeof seeded>): Field {
  const waves = Array.from({ length: 8 }, () => {
    const l = USUAL * (0.35 + 0.9 * random.next())
    const a = 2 * Math.PI * random.next()
    return { x: (2 * Math.PI * Math.cos(a)) / l, y: (2 * Math.PI * Math.sin(a)) / l, z: (Math.PI * random.gauss()) / l, p: 2 * Math.PI * random.next() }
  })
  return (x, y, z) => waves.reduce((s, w) => s + Math.sin(w.x * x + w.y * y + w.z * z + w.p), 0) / 2
}

/** Error along the ray at a place of the field (mm, mm, depth from the target). */
function noiseOf(noise: ZooNoise, unit: number, random: ReturnType<typeof seeded>, field: Field): Field {
  const s = noise.sigma * unit
  if (!noise.correlated) return () => s * random.gauss()
  const phase = 2 * Math.PI * random.next()
  const a = 2 * Math.PI * random.next()
  const k = (2 * Math.PI) / 6
  const [kx, ky] = [k * Math.cos(a), k * Math.sin(a)]
  return (x, y, z) => {
    const [u, v, w] = [x / unit, y / unit, z / unit]
    return s * (0.7 * random.gauss() + 0.5 * Math.SQRT2 * Math.sin(kx * u + ky * v + phase) + 0.5 * field(u, v, w))
  }
}
