import { invertRigid, multiply, rotateVector, transformPoint, type Mat4 } from '@oak-gauge/core/base/mat4.ts'
import { seeded } from '@oak-gauge/core/base/random.ts'
import { makeConstellation } from '@oak-gauge/core/markers/constellation.ts'
import { PERCHES } from '@oak-gauge/core/markers/markers.ts'
import { matchConstellation } from '@oak-gauge/core/markers/match.ts'
import { plainMesh, plainShape, upright, UPS, uprightPose, type Up } from '@oak-gauge/core/markers/plan/shape.ts'
import { coarseMesh } from '@oak-gauge/core/repair/reduce.ts'
import type { MATERIALS } from '@oak-gauge/core/scanner/scene.ts'
import { transformMesh, type Mesh } from '@oak-gauge/core/shape/mesh.ts'
import { boundingBox } from '@oak-gauge/core/shape/points.ts'
import type { BenchThing } from '@oak-gauge/contract'

/** What really stands before a stand-in: markers as a hand stuck them, and the part. Nobody but the stand-in and tests sees it. */
export interface Stage {
  positions: number[]
  normals: number[]
  diameters: number[]
  solid: { vertices: number[]; triangles: number[] } | null
  /** how its surface answers light; matte where nobody said */
  material?: keyof typeof MATERIALS
  /** min and max of what is marked */
  box: number[]
  /** a table that is seen stands beneath that */
  table?: boolean
  /** the part carries a print */
  printed?: boolean
}

/** of a print, mm */
const BLOTS = 12
/** how well a hand hits the place a plan gave it, mm */
const HAND = 1.2
/** what is behind the part is hidden by as much of it; where it is measured itself, all of it counts */
const MOST_TRIANGLES = 6000
export const MEASURED_TRIANGLES = 120_000

export interface StageInput {
  /** of the plan: as it lies in the job; null: there is none, the marking board of the workshop is used */
  plan: { positions: ArrayLike<number>; normals: ArrayLike<number>; diameters: ArrayLike<number>; perch: ArrayLike<number> } | null
  up: Up
  part: Mesh | null
  /** number of the setup: in every second one the part lies upside down, and what stood on the table was put up anew */
  place: number
  /** another hand, another seed */
  seed: number
}

/** Sticks the markers of a plan, a little beside their places as a hand does, and sets the part up. Deterministic for its input. */
export async function setStage(o: StageInput, triangles = MOST_TRIANGLES): Promise<Stage> {
  const random = seeded(900 + o.seed)
  const into = uprightPose(o.up)
  const positions: number[] = []
  const normals: number[] = []
  const diameters: number[] = []
  const flipped = o.place % 2 === 1
  let part = o.part && upright(o.part, [1, 0, 0, 0, 0, 1, 0, 0, 0, 0, 1, 0, 0, 0, 0, 1], o.up)
  const b = part ? boundingBox(part.vertices) : [0, 0, 0, 0, 0, 0]
  const middle = [(b[0] + b[3]) / 2, (b[1] + b[4]) / 2, (b[2] + b[5]) / 2]
  // upside down about its own middle, and turned a little: it stands as high as before
  const turn: Mat4 = flipped
    ? multiply(
        Float64Array.of(0.8, 0.6, 0, middle[0], 0.6, -0.8, 0, middle[1], 0, 0, -1, middle[2], 0, 0, 0, 1),
        Float64Array.of(1, 0, 0, -middle[0], 0, 1, 0, -middle[1], 0, 0, 1, -middle[2], 0, 0, 0, 1),
      )
    : Float64Array.of(1, 0, 0, 0, 0, 1, 0, 0, 0, 0, 1, 0, 0, 0, 0, 1)
  const { plan } = o
  if (plan)
    for (let i = 0; i < plan.diameters.length; i++) {
      const at = transformPoint(into, plan.positions[3 * i], plan.positions[3 * i + 1], plan.positions[3 * i + 2])
      const n = rotateVector(into, plan.normals[3 * i], plan.normals[3 * i + 1], plan.normals[3 * i + 2])
      const onPart = PERCHES[plan.perch[i]] === 'part'
      // along the surface: a marker lies on it
      const e = [random.gauss(), random.gauss(), random.gauss()].map((v) => HAND * v)
      const along = e[0] * n[0] + e[1] * n[1] + e[2] * n[2]
      const stuck = at.map((v, k) => v + e[k] - along * n[k])
      // what stands on the table was put up anew for another setup
      if (!onPart && o.place > 0) {
        stuck[0] += 14 * random.gauss()
        stuck[1] += 14 * random.gauss()
      }
      const p = onPart ? transformPoint(turn, stuck[0], stuck[1], stuck[2]) : stuck
      positions.push(p[0], p[1], p[2])
      normals.push(...(onPart ? rotateVector(turn, n[0], n[1], n[2]) : n))
      diameters.push(plan.diameters[i])
    }
  else board(random, positions, normals, diameters)
  if (part && flipped) part = transformMesh(part, turn)
  let solid: Stage['solid'] = null
  if (part) {
    const coarse = await coarseMesh(part, triangles)
    solid = { vertices: Array.from(coarse.vertices, (v) => Math.round(v * 1e4) / 1e4), triangles: Array.from(coarse.triangles) }
  }
  const box = boundingBox(Float32Array.from(positions))
  return { positions, normals, diameters, solid, box: Array.from(box) }
}

/** The marking board of the workshop: 40 markers of both sizes on 400 x 300 mm, some on low blocks. */
function board(random: ReturnType<typeof seeded>, positions: number[], normals: number[], diameters: number[]): void {
  while (diameters.length < 40) {
    const x = (random.next() - 0.5) * 390
    const y = (random.next() - 0.5) * 290
    let free = true
    for (let i = 0; i < diameters.length; i++) if (Math.hypot(positions[3 * i] - x, positions[3 * i + 1] - y) < 34) free = false
    if (!free) continue
    positions.push(x, y, random.next() < 0.3 ? 10 + 20 * random.next() : 0)
    normals.push(0, 0, 1)
    diameters.push(random.next() < 0.5 ? 3 : 6)
  }
}

export function benchOf(s: Stage): BenchThing[] {
  const { positions, normals, diameters, solid } = s
  return [
    { kind: 'markers', positions, normals, diameters },
    ...(solid ? [{ kind: 'solid' as const, material: s.material ?? 'matte', ...(s.printed ? { print: BLOTS } : {}), ...solid }] : []),
    // what is exposed for a dark part would see nothing but glare of a light table
    ...(s.table ? [{ kind: 'solid' as const, material: s.material === 'dark' ? ('dark' as const) : ('matte' as const), ...tableUnder(s.box) }] : []),
  ]
}

/** mm: of a table, beyond what stands on it; and how thick it is */
const AROUND = 60
const THICK = 20
function tableUnder([x0, y0, z0, x1, y1]: number[]) {
  const vertices: number[] = []
  for (const z of [z0 - THICK, z0])
    for (const [x, y] of [
      [x0 - AROUND, y0 - AROUND],
      [x1 + AROUND, y0 - AROUND],
      [x1 + AROUND, y1 + AROUND],
      [x0 - AROUND, y1 + AROUND],
    ])
      vertices.push(x, y, z)
  const triangles = [4, 5, 6, 4, 6, 7, 0, 2, 1, 0, 3, 2]
  for (let i = 0; i < 4; i++) {
    const j = (i + 1) % 4
    triangles.push(i, j, 4 + j, i, 4 + j, 4 + i)
  }
  return { vertices, triangles }
}

/** What of a job stands before the stand-in: its plan, and the shape the plan was made on. params: those of the planning step. */
export function stageInput(params: Record<string, unknown>, plan: StageInput['plan'], part: Mesh | null, place: number): StageInput {
  const up = UPS.find((u) => u === params['up']) ?? '+z'
  const typed = plainShape.safeParse(params['shape'])
  return { plan, up, part: part ?? (typed.success ? transformMesh(plainMesh(typed.data), invertRigid(uprightPose(up))) : null), place, seed: place }
}

/** Which marker of the stage the n-th of a map is, -1 for none: the two are matched by their distances, as nobody here knows where the stage stands. */
export function onStage(stage: Stage, known: readonly { x: number; y: number; z: number; diameter: number }[], n: number): number {
  const info = new Float64Array(6 * known.length)
  for (let i = 0; i < known.length; i++) info[6 * i] = info[6 * i + 3] = info[6 * i + 5] = 1
  const m = matchConstellation(
    makeConstellation(stage.positions, { diameters: stage.diameters }),
    { xyz: known.flatMap((k) => [k.x, k.y, k.z]), diameters: known.map((k) => k.diameter), info, noise: 0.1 },
    { share: 0, mostHypotheses: 5000 },
  )
  return m.kind === 'found' ? m.pairs[n] : -1
}

/** A marker is knocked against: it slides along its ground, mm. */
export function slide(stage: Stage, i: number, distance: number): void {
  const n = stage.normals.slice(3 * i, 3 * i + 3)
  const side = Math.abs(n[0]) < 0.7 ? [1, 0, 0] : [0, 1, 0]
  const along = side[0] * n[0] + side[1] * n[1] + side[2] * n[2]
  const t = side.map((v, k) => v - along * n[k])
  const l = Math.hypot(t[0], t[1], t[2])
  for (let k = 0; k < 3; k++) stage.positions[3 * i + k] += (distance * t[k]) / l
}
