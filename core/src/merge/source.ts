import { f32 } from '../base/arrays.ts'
import { transformArray, transformPoint, type Mat4 } from '../base/mat4.ts'
import { checkCancelled, subProgress, type RunContext } from '../base/run.ts'
import { median } from '../base/stats.ts'
import { estimateNormals } from '../shape/normals.ts'
import type { Placed, Points } from '../shape/points.ts'
import { reconcileSides, type Sided } from '../shape/reconcile.ts'
import { buildRowGrid } from '../space/rowgrid.ts'
import { clustering } from './cluster.ts'
import type { FieldSource } from './field.ts'

export interface SourceOptions {
  /** lattice cell, mm; default 1.1 point spacings, and at least `least` */
  cell?: number
  /** a cell that is chosen here is never finer than this, mm: how well the passes agree */
  least?: number
  /** radius over which points are averaged on flat ground, mm; default 2.8 cells, at least 3 spacings */
  radius?: number
}

/** What is merged: points of all passes as they are, with normals, and the lengths that are the same everywhere. */
export interface MergeSource {
  passes: SourcePass[]
  /** points of all passes */
  points: number
  /** of all points in the job, mm */
  box: Float64Array
  cell: number
  spacing: number
  noise: number
  radius: number
  /** outside was guessed for so many passes */
  guessedPasses: number
}

interface SourcePass {
  xyz: Float32Array
  normals: Float32Array
  pose: Mat4
  /** where the scanner stood, in the job */
  eye: readonly [number, number, number] | undefined
  /** boxes in the job of RUN points each, 6 a run */
  boxes: Float32Array
}

/** Points that are brought to the job at a time. Scans lie in the order in which they were recorded, so that so many lie near one another. */
const RUN = 1 << 14
/** Clusters, in cells. */
const CLUSTER = 0.8

/** Normals, spacing and noise of all passes. Points stay where they are, in their own coordinates. */
export async function mergeSource(passes: Placed<Points>[], options: SourceOptions, ctx: RunContext): Promise<MergeSource> {
  const out: SourcePass[] = []
  const sides: Sided[] = []
  const noises: number[] = []
  const spacings: number[] = []
  let guessedPasses = 0
  let points = 0
  const box = Float64Array.of(Infinity, Infinity, Infinity, -Infinity, -Infinity, -Infinity)
  const job = f32(3 * RUN)
  for (let k = 0; k < passes.length; k++) {
    const { data, pose } = passes[k]
    const { xyz } = data
    const own = await estimateNormals(data, {}, subProgress(ctx, k / passes.length, (k + 1) / passes.length, 'normals'))
    if (own.orientation === 'guessed') guessedPasses++
    noises.push(own.sigma)
    spacings.push(own.spacing)
    points += xyz.length / 3
    const boxes = new Float32Array(6 * Math.ceil(xyz.length / (3 * RUN)))
    for (let r = 0; 3 * RUN * r < xyz.length; r++) {
      const run = transformArray(pose, xyz.subarray(3 * RUN * r, 3 * RUN * (r + 1)), job)
      const o = 6 * r
      boxes.fill(Infinity, o, o + 3)
      boxes.fill(-Infinity, o + 3, o + 6)
      const end = Math.min(3 * RUN, xyz.length - 3 * RUN * r)
      for (let i = 0; i < end; i++) {
        const c = o + (i % 3)
        if (run[i] < boxes[c]) boxes[c] = run[i]
        if (run[i] > boxes[c + 3]) boxes[c + 3] = run[i]
      }
      for (let c = 0; c < 3; c++) {
        box[c] = Math.min(box[c], boxes[o + c])
        box[3 + c] = Math.max(box[3 + c], boxes[o + 3 + c])
      }
    }
    sides.push({ xyz, normals: own.points.normals, pose, pieces: own.pieces })
    out.push({
      xyz,
      normals: own.points.normals,
      pose,
      eye: data.viewpoint && transformPoint(pose, data.viewpoint[0], data.viewpoint[1], data.viewpoint[2]),
      boxes,
    })
    checkCancelled(ctx)
  }
  const spacing = median(spacings)
  reconcileSides(sides, spacing)
  const cell = options.cell ?? Math.max(1.1 * spacing, options.least ?? 0)
  const radius = options.radius ?? Math.max(2.8 * cell, 3.1 * spacing)
  return { passes: out, points, box, cell, spacing, noise: median(noises), radius, guessedPasses }
}

/** Brings the points to the job, run by run. xyz: 3 a point, of which the first n are meant. */
export function eachRun(
  source: MergeSource,
  meets: (boxes: Float32Array, o: number) => boolean,
  use: (xyz: Float32Array, n: number, pass: SourcePass, first: number) => void,
): void {
  const job = f32(3 * RUN)
  for (const p of source.passes)
    for (let r = 0; 3 * RUN * r < p.xyz.length; r++) {
      if (!meets(p.boxes, 6 * r)) continue
      const own = p.xyz.subarray(3 * RUN * r, 3 * RUN * (r + 1))
      use(transformArray(p.pose, own, job), own.length / 3, p, RUN * r)
    }
}

/**
 * The points that tell of a box of the job (6 numbers, mm) and what lies within the radius of the average around it, as clusters, sorted for search. The
 * same places come out the same, whatever the box. expected: points, roughly.
 */
export function fieldIn(source: MergeSource, box: ArrayLike<number>, expected: number): FieldSource {
  const { cell, radius } = source
  // clusters that are met must be whole
  const reach = radius + CLUSTER * cell
  const [x0, y0, z0] = [box[0] - reach, box[1] - reach, box[2] - reach]
  const [x1, y1, z1] = [box[3] + reach, box[4] + reach, box[5] + reach]
  const all = clustering(CLUSTER * cell, expected)
  const xyz = f32(3 * RUN)
  const normals = f32(3 * RUN)
  const turned = f32(3 * RUN)
  const weights = f32(RUN)
  eachRun(
    source,
    (b, o) => b[o] <= x1 && b[o + 3] >= x0 && b[o + 1] <= y1 && b[o + 4] >= y0 && b[o + 2] <= z1 && b[o + 5] >= z0,
    (job, n, pass, first) => {
      transformArray(pass.pose, pass.normals.subarray(3 * first, 3 * (first + n)), turned, true)
      let count = 0
      for (let i = 0; i < n; i++) {
        const [x, y, z] = [job[3 * i], job[3 * i + 1], job[3 * i + 2]]
        if (!(x >= x0 && x <= x1 && y >= y0 && y <= y1 && z >= z0 && z <= z1)) continue
        for (let k = 0; k < 3; k++) {
          xyz[3 * count + k] = job[3 * i + k]
          normals[3 * count + k] = turned[3 * i + k]
        }
        weights[count] = pass.eye ? slant(pass.eye, xyz, normals, 3 * count) : 1
        count++
      }
      all.add(xyz, normals, weights, count)
    },
  )
  const clusters = all.done()
  const n = clusters.count
  const grid = buildRowGrid(clusters.xyz, radius, [source.box[1], source.box[2]])
  const field: FieldSource = {
    grid,
    normals: f32(3 * n),
    weights: f32(n),
    counts: f32(n),
    radius,
    smallRadius: 0.7 * radius,
    cell,
    slack: Math.max(4 * source.noise, 0.25 * cell),
  }
  for (let i = 0; i < n; i++) {
    const id = grid.ids[i]
    for (let k = 0; k < 3; k++) field.normals[3 * i + k] = clusters.normals[3 * id + k]
    field.weights[i] = clusters.weights[id]
    field.counts[i] = clusters.counts[id]
  }
  return field
}

/** Full weight up to 60 degrees of slant, then falling (Curless and Levoy 1996 weigh by incidence). */
function slant(eye: readonly [number, number, number], xyz: Float32Array, normals: Float32Array, o: number): number {
  const x = eye[0] - xyz[o]
  const y = eye[1] - xyz[o + 1]
  const z = eye[2] - xyz[o + 2]
  const c = (x * normals[o] + y * normals[o + 1] + z * normals[o + 2]) / Math.sqrt(x * x + y * y + z * z)
  // a point in the eye itself, as scanners write what they did not see, has no direction
  return c > 0.5 ? 1 : c > 0.01 ? 2 * c : 0.02
}
