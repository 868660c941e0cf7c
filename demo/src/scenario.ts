import { fromQuaternion, fromRotationVector, identity, invertRigid, multiply, transformPoint, type Mat4 } from '@oak-gauge/core/base/mat4.ts'
import type { RunContext } from '@oak-gauge/core/base/run.ts'
import { seeded } from '@oak-gauge/core/base/random.ts'
import { scanRange, type RangeView } from '@oak-gauge/core/scanner/rangeview.ts'
import { transformMesh, type Mesh } from '@oak-gauge/core/shape/mesh.ts'
import { boundingBox, type Points } from '@oak-gauge/core/shape/points.ts'
import type { Markers } from '@oak-gauge/core/markers/markers.ts'
import { buildBvh } from '@oak-gauge/core/space/bvh.ts'
import { cad, tessellate } from './cad.ts'
import { box, divide, together } from './divide.ts'
import { inPassCoordinates, orbit, smallPose } from './passes.ts'
import { bracket, NOMINAL_BRACKET } from './parts/bracket.ts'
import { DEFECTS, spoilBracket } from './parts/defects.ts'
import { hatch, winchPost } from './parts/large.ts'
import { gearCover, pawl, sillHandle } from './parts/others.ts'
import { COVER_MARKERS, seenMarkers, type Sticker } from './stickers.ts'

/** The workshop of the Brindle Cut Navigation, a canal trust that does not exist, restores the paddle gear of its locks. */
export interface DemoJob {
  part: string
  purpose: 'inspection' | 'reverse-engineering' | 'custom-part'
  tolerance: number
  surface: 'matte' | 'dark' | 'glossy' | 'see-through'
  notes: string
  setups: { name: string; passes: { name: string; points: Points }[]; markers?: Markers }[]
  nominal?: { name: string; step: Uint8Array }
}

interface SetupPlan {
  name: string
  /** pose of the part on the table of this setup (table top at z = 0) */
  place: Mat4
  /** azimuth, elevation of each pass, degrees */
  views: [number, number][]
}

interface Plan {
  part: Mesh
  setups: SetupPlan[]
  pitch: number
  half: [number, number]
  limit: number
  seed: number
  /** junk left on the table */
  junk?: Mesh
  /** markers on the part: place and the way they face, in the part's coordinates */
  markers?: Sticker[]
}

/** Ray casts the passes of each setup: part on a table, tracking errors of some hundredths between passes, strays, noise of 0.03 mm. */
async function recordSetups(plan: Plan, ctx: RunContext): Promise<DemoJob['setups']> {
  const random = seeded(plan.seed)
  const setups: DemoJob['setups'] = []
  for (const [k, setup] of plan.setups.entries()) {
    const onTable = transformMesh(plan.part, setup.place)
    const b = boundingBox(onTable.vertices)
    const target: [number, number, number] = [(b[0] + b[3]) / 2, (b[1] + b[4]) / 2, (b[2] + b[5]) / 2]
    // in small pieces: one triangle as large as the table would lie in every branch of the search tree
    const table = divide(box([target[0] - 170, target[1] - 140, -12], [target[0] + 170, target[1] + 140, 0]), 8)
    const scene = together(onTable, table, ...(plan.junk && k === 0 ? [plan.junk] : []))
    const bvh = buildBvh(scene, 'median')
    const passes: DemoJob['setups'][number]['passes'] = []
    for (const [i, [azimuth, elevation]] of setup.views.entries()) {
      const view: RangeView = {
        eye: orbit(azimuth, elevation, 420, target),
        target,
        pitch: plan.pitch,
        halfWidth: plan.half[0],
        halfHeight: plan.half[1],
        noise: 0.03,
        baseline: 60,
        maxIncidence: 78,
        strays: 0.0015,
        seed: plan.seed + 100 * k + i,
        limit: plan.limit,
      }
      const drift = i === 0 ? identity() : smallPose(random, 0.03, 0.08, target)
      passes.push({ name: `Pass ${k + 1}.${i + 1}`, points: inPassCoordinates(await scanRange(scene, bvh, view, ctx), drift).points })
    }
    const markers = plan.markers && seenMarkers(plan.markers, setup.place, bvh, target, plan.seed + 50 + k)
    setups.push({ name: setup.name, passes, ...(markers ? { markers } : {}) })
  }
  return setups
}

const upright = identity()
/** Quarter turn about x, the part standing on its y = 55 edge, and a shift, so that the setups do not agree by luck. */
const onItsSide = (() => {
  const turn = multiply(fromQuaternion([Math.cos(0.35), 0, 0, Math.sin(0.35)]), fromRotationVector(-Math.PI / 2, 0, 0))
  turn[11] = 55
  turn[3] = 24
  turn[7] = -31
  return turn
})()
/** The pawl on its back, leaning on its long edge: both faces are seen from one setup, and with them its thickness. */
const onItsBack = (() => {
  const turn = multiply(fromQuaternion([Math.cos(0.2), 0, 0, Math.sin(0.2)]), fromRotationVector(Math.PI / 2, 0, 0))
  turn[3] = -9
  turn[7] = 16
  turn[11] = 14
  return turn
})()
const turnedOver = (height: number): Mat4 => Float64Array.of(1, 0, 0, 12, 0, -1, 0, -9, 0, 0, -1, height, 0, 0, 0, 1)

/** Where setup 2 of the bracket really lies against setup 1, for tests: job (setup 1) = this * setup 2. */
export const TRUE_SECOND_SETUP: Mat4 = invertRigid(onItsSide)
export const trueSecondSetup = (x: number, y: number, z: number) => transformPoint(TRUE_SECOND_SETUP, x, y, z)

/** Edge length that keeps the bend and the wear smooth to 0.003 mm, mm. */
const fineWhereSpoilt = (_x: number, y: number) => (y < DEFECTS.wornFace.y + 2.5 ? 1.5 : 8)

export async function bracketJob(ctx: RunContext): Promise<DemoJob> {
  const nominal = await bracket(NOMINAL_BRACKET)
  await cad()
  const spoilt = spoilBracket(divide(tessellate(await bracket({ ...NOMINAL_BRACKET, bore: DEFECTS.oversizeBore.diameter }), 0.006, 6), fineWhereSpoilt))
  return {
    part: 'Paddle winch, lock 9',
    purpose: 'inspection',
    tolerance: 0.2,
    surface: 'dark',
    notes:
      'Cast iron, dark, matte. Came off the winch of lock 9; the shaft knocks. Recorded with a borrowed scanner, its certificate states U = 0.02 mm (k = 2).',
    setups: await recordSetups(
      {
        part: spoilt,
        pitch: 0.31,
        half: [98, 78],
        limit: 220_000,
        seed: 41,
        junk: box([88, -84, 0], [102, -70, 16]),
        setups: [
          {
            name: 'Setup 1, upright',
            place: upright,
            views: [
              [20, 50],
              [95, 38],
              [165, 52],
              [235, 40],
              [305, 50],
            ],
          },
          {
            name: 'Setup 2, on its side',
            place: onItsSide,
            views: [
              [20, 36],
              [80, 42],
              [170, 40],
            ],
          },
        ],
      },
      ctx,
    ),
    nominal: await stepOf('Bearing bracket nominal.step', nominal),
  }
}

export async function pawlJob(ctx: RunContext): Promise<DemoJob> {
  return {
    part: 'Paddle winch, lock 9',
    purpose: 'reverse-engineering',
    tolerance: 0.1,
    surface: 'glossy',
    notes: 'Polished by use. A new one is to be cut from plate.',
    setups: await recordSetups(
      {
        part: tessellate(await pawl(), 0.006, 6),
        pitch: 0.36,
        half: [66, 50],
        limit: 60_000,
        seed: 1400,
        setups: [
          {
            name: 'Setup 1, face up',
            place: fromRotationVector(0, 0, 0, 0, 0, 3),
            views: [
              [10, 50],
              [100, 45],
              [190, 50],
              [280, 45],
            ],
          },
          {
            name: 'Setup 2, on its back',
            place: onItsBack,
            views: [
              [80, 38],
              [145, 44],
              [255, 38],
              [325, 44],
            ],
          },
        ],
      },
      ctx,
    ),
  }
}

export async function coverJob(ctx: RunContext): Promise<DemoJob> {
  return {
    part: 'Rack gear, lock 4',
    purpose: 'custom-part',
    tolerance: 0.5,
    surface: 'matte',
    notes:
      'Thin, and the same all round: shape cannot tell how its two sides lie, so markers of 3 mm were stuck on the rim’s edge and recorded in both setups.',
    setups: await recordSetups(
      {
        part: tessellate(await gearCover(), 0.008, 6),
        pitch: 0.5,
        half: [92, 80],
        limit: 60_000,
        seed: 2300,
        markers: COVER_MARKERS,
        setups: [
          {
            name: 'Setup 1, face up',
            place: upright,
            views: [
              [0, 55],
              [120, 50],
              [240, 55],
            ],
          },
          {
            name: 'Setup 2, face down',
            place: turnedOver(12),
            views: [
              [60, 50],
              [200, 55],
            ],
          },
        ],
      },
      ctx,
    ),
  }
}

export async function handleJob(ctx: RunContext): Promise<DemoJob> {
  return {
    part: 'Lower gate, lock 2',
    purpose: 'custom-part',
    tolerance: 0.5,
    surface: 'matte',
    notes: 'Oak, worn by hands. A nest to hold it and a printed copy are wanted.',
    setups: await recordSetups(
      {
        part: sillHandle(),
        pitch: 0.4,
        half: [84, 56],
        limit: 50_000,
        seed: 3100,
        setups: [
          {
            name: 'Setup 1',
            place: upright,
            views: [
              [15, 40],
              [105, 35],
              [195, 42],
              [285, 36],
            ],
          },
        ],
      },
      ctx,
    ),
  }
}

/** Nothing is recorded of it yet: markers on towers are planned, mapped, and hold the scanner that is led up and down. */
export async function postJob(): Promise<DemoJob> {
  return {
    part: 'Winch post, lock 4',
    purpose: 'inspection',
    tolerance: 0.4,
    surface: 'matte',
    notes:
      'Cast, blasted, not painted yet. A barge ran against it: do the two eyes still lie in one line? Nothing is recorded so far; it is tall, so plan towers.',
    setups: [{ name: 'Setup 1, upright', passes: [] }],
    nominal: await stepOf('Winch post nominal.step', await winchPost()),
  }
}

/** Nothing is recorded of it yet: a large sheet that no shape holds. */
export async function hatchJob(): Promise<DemoJob> {
  return {
    part: 'Paddle chamber, lock 4',
    purpose: 'inspection',
    tolerance: 1,
    surface: 'matte',
    notes: 'Sheet of 2 mm, galvanised and dull. It rocks in its frame: how far is it twisted? Nothing is recorded so far; by shape alone it slides.',
    setups: [{ name: 'Setup 1, upright', passes: [] }],
    nominal: await stepOf('Hatch nominal.step', await hatch()),
  }
}

const stepOf = async (name: string, part: { blobSTEP(): Blob }) => ({ name, step: new Uint8Array(await part.blobSTEP().arrayBuffer()) })

/** Makers of the demo jobs by title, in the order of the bench. */
export const DEMO_JOBS: Record<string, (ctx: RunContext) => Promise<DemoJob>> = {
  'Bearing bracket': bracketJob,
  Pawl: pawlJob,
  'Gear cover': coverJob,
  'Sill handle': handleJob,
  'Winch post': postJob,
  Hatch: hatchJob,
}
