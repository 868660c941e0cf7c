import { fromRotationVector, identity, invertRigid, motionTimes, multiply, transformPoint, translation, type Mat4 } from '@oak-gauge/core/base/mat4.ts'
import { seeded } from '@oak-gauge/core/base/random.ts'
import { liveTracker, type LiveFrame, type LiveOptions } from '@oak-gauge/core/capture/livetracker.ts'
import { plainMesh } from '@oak-gauge/core/markers/plan/shape.ts'
import { stereoSight } from '@oak-gauge/core/markers/sight.ts'
import { trueOptics } from '@oak-gauge/core/scanner/optics.ts'
import { MATERIALS, type Thing } from '@oak-gauge/core/scanner/scene.ts'
import { seeMarkers } from '@oak-gauge/core/scanner/seemarkers.ts'
import { takeShot } from '@oak-gauge/core/scanner/shot.ts'
import type { Mesh } from '@oak-gauge/core/shape/mesh.ts'
import { boundingBox } from '@oak-gauge/core/shape/points.ts'
import { buildBvh } from '@oak-gauge/core/space/bvh.ts'
import { cad, tessellate } from '@oak-gauge/demo/cad.ts'
import { box, divide, together } from '@oak-gauge/demo/divide.ts'
import { bracket, NOMINAL_BRACKET } from '@oak-gauge/demo/parts/bracket.ts'
import { DEVICES } from '@oak-gauge/scanners/devices.ts'
import { handAt } from './capture.ts'

type Add = (what: string, got: string, must: string, aim: string) => void

/** What befalls a recording. */
const KINDS = ['jerk', 'cover', 'hand', 'nudge', 'late'] as const
type Kind = (typeof KINDS)[number]

/** ms between two frames; frames of a round; those that are recorded before something happens, and while it does */
const EVERY = 60
const ROUND = 600
const LED = 40
const MEANWHILE = 10
/** a person goes on until it is held: so many frames of the last ones; after so many without, it is given up */
const HELD = 8
const PATIENCE = 160
/** frames within which a place is found again, and those that are led on from there */
const WITHIN = 24
const ON = 8
/** mm at the middle of its points: a frame in the model that is off by more is placed wrongly. Three times what one may be known by */
const WRONG = 0.9
/** what a nudge moves the part by, mm and degrees; what a jerk tears the scanner away by; how far beside the ghost a hand comes back, and what share of that is left once it
 * has arrived there, which takes so many frames */
const NUDGE = [2, 0.5] as const
const JERK = [90, 15] as const
const BESIDE = [15, 5] as const
const NEAR = 0.2
const ARRIVES = 16
const SPACING = 1.4

interface Before {
  name: string
  part: Mesh
  table: Mesh | undefined
  device: keyof typeof DEVICES
  by: 'shape' | 'markers' | 'both'
}

/** What a hand trembles by, frame for frame. */
const trembling = (i: number) => translation(2 * Math.sin(i / 3), 2 * Math.cos(i / 4), Math.sin(i))
const thing = (mesh: Mesh, pose: Mat4 = identity()): Thing => ({ kind: 'mesh', mesh, bvh: buildBvh(mesh, 'median'), pose, material: MATERIALS.matte })
/** A motion about a place: so many mm and degrees, whichever way. */
function about(at: readonly number[], [mm, degrees]: readonly [number, number], r: ReturnType<typeof seeded>): Mat4 {
  const unit = (length: number) => {
    const v = [r.gauss(), r.gauss(), r.gauss()]
    return v.map((x) => (x * length) / Math.hypot(...v))
  }
  const [s, w] = [unit(mm), unit((degrees * Math.PI) / 180)]
  const [x, y, z] = at
  return multiply(multiply(translation(x + s[0], y + s[1], z + s[2]), fromRotationVector(w[0], w[1], w[2])), translation(-x, -y, -z))
}
interface Tally {
  entered: number
  wrong: number
  worst: number
  lost: number
  found: number
  /** it lies there, and something is free: it is weak, and goes on when more is seen */
  free: number
  /** it was lost since the part moved against the table that was recorded with it: there is nothing to come back to */
  gone: number
  /** nothing was ever held: nothing to lose */
  never: number
}
const none = (): Tally => ({ entered: 0, wrong: 0, worst: 0, lost: 0, found: 0, free: 0, gone: 0, never: 0 })

/**
 * Recordings that are torn, covered, reached into, nudged and passed over, over parts that look alike, are round or flat: how many frames lie in the model
 * where they do not belong, and how often the place is found again at the ghost. Nothing but the frames is told to what tracks.
 */
export async function benchTorture(only: string[], add: Add, say: (line: string) => void): Promise<void> {
  const seeds = Number(only.find((o) => /^\d+$/.test(o)) ?? 4)
  const wanted = (name: string) => only.every((o) => o === 'torture' || /^\d+$/.test(o) || name.includes(o))
  const total = none()
  let cases = 0
  for (const before of await stages()) {
    const stage = set(before)
    const sum = none()
    let of = 0
    for (const kind of KINDS)
      for (let seed = 1; seed <= seeds; seed++) {
        const name = `${before.name} ${kind} ${seed}`
        if (!wanted(name)) continue
        const t = stage.torture(kind, seed)
        of++
        if (t.wrong || t.lost > t.found || t.gone) say(`${name}: ${t.wrong} of ${t.entered} wrong, ${t.worst.toFixed(2)} mm; lost ${t.lost}, found ${t.found}`)
        for (const s of [sum, total]) {
          s.entered += t.entered
          s.wrong += t.wrong
          s.worst = Math.max(s.worst, t.worst)
          s.lost += t.lost
          s.found += t.found
          s.free += t.free
          s.gone += t.gone
          s.never += t.never
        }
      }
    cases += of
    if (of)
      add(
        `${before.name}: of ${of} mishaps, never held; frames placed / wrongly / furthest off / lost / found again / weak there / nothing to come back to`,
        told(sum),
        '',
        '',
      )
  }
  add(
    `all ${cases} mishaps: never held; frames placed / wrongly / furthest off / lost / found again at the ghost / weak there / nothing to come back to`,
    told(total),
    '0.1 %; 95 %',
    '0; 99 %',
  )
}
const told = (t: Tally) =>
  `${t.never}; ${t.entered} / ${t.wrong} (${((100 * t.wrong) / Math.max(1, t.entered)).toFixed(2)} %) / ${t.worst.toFixed(2)} mm / ${t.lost} / ${t.found} (${((100 * t.found) / Math.max(1, t.lost)).toFixed(0)} %) / ${t.free} / ${t.gone}`

async function stages(): Promise<Before[]> {
  await cad()
  const table = divide(box([-170, -140, -12], [170, 140, 0]), 8)
  const fitting = tessellate(await bracket(NOMINAL_BRACKET), 0.02, 8)
  const ribs = together(box([-130, -60, 0], [130, 60, 10]), ...Array.from({ length: 6 }, (_, k) => box([-110 + 40 * k, -50, 10], [-102 + 40 * k, 50, 35])))
  const round = together(plainMesh({ kind: 'cylinder', diameter: 90, height: 60 }), plainMesh({ kind: 'cylinder', diameter: 50, height: 110 }))
  const plate = box([-160, -110, -6], [160, 110, 0])
  return [
    { name: 'bracket on its table, Birch, shape', part: fitting, table, device: 'birch', by: 'shape' },
    { name: 'bracket, Birch, shape', part: fitting, table: undefined, device: 'birch', by: 'shape' },
    { name: 'ribs, Birch, shape', part: ribs, table: undefined, device: 'birch', by: 'shape' },
    { name: 'round, Birch, shape', part: round, table: undefined, device: 'birch', by: 'shape' },
    { name: 'plate, Birch, shape', part: plate, table: undefined, device: 'birch', by: 'shape' },
    { name: 'bracket, Alder, shape', part: fitting, table, device: 'alder', by: 'shape' },
    { name: 'bracket, Alder, markers', part: fitting, table, device: 'alder', by: 'markers' },
    { name: 'ribs, Alder, markers', part: ribs, table, device: 'alder', by: 'markers' },
    { name: 'bracket, Birch, both', part: fitting, table, device: 'birch', by: 'both' },
    { name: 'round, Birch, both', part: round, table, device: 'birch', by: 'both' },
  ]
}

function set({ part: mesh, table, device, by }: Before) {
  const { spec, seed, noise } = DEVICES[device]
  const optics = trueOptics(spec.design, seed, { celsius: 28, days: 3, drops: 0 })
  const b = boundingBox(mesh.vertices)
  const middle = [0, 1, 2].map((k) => (b[k] + b[k + 3]) / 2)
  const still = table ? [thing(table)] : []
  const solid = thing(mesh)
  const r = seeded(77)
  const stuck = { positions: [] as number[], normals: [] as number[], diameters: [] as number[] }
  while (by !== 'shape' && stuck.diameters.length < 40) {
    const [x, y] = [middle[0] + 380 * (r.next() - 0.5), middle[1] + 320 * (r.next() - 0.5)]
    if (Math.abs(x - middle[0]) < (b[3] - b[0]) / 2 + 8 && Math.abs(y - middle[1]) < (b[4] - b[1]) / 2 + 8) continue
    stuck.positions.push(x, y, r.next() < 0.3 ? 30 * r.next() : 0)
    stuck.normals.push(0, 0, 1)
    stuck.diameters.push(6)
  }
  const map = { ...stuck, positions: stuck.positions.map((v) => v + 0.005 * r.gauss()), sigma: stuck.diameters.map(() => 0.005) }
  const options: LiveOptions = {
    spacing: SPACING,
    noise: device === 'birch' ? 0.08 : 0.05,
    ...(by === 'shape' ? {} : { by, markers: { map, sight: stereoSight(optics), noise: 0.03 } }),
  }
  const kept = new Map<number, Pick<LiveFrame, 'xyz' | 'markers'>>()
  const shot = (pose: Mat4, things: Thing[], number: number): Pick<LiveFrame, 'xyz' | 'markers'> => {
    const { xyz } = takeShot(spec, optics, optics, things, {
      pose,
      pattern: device === 'birch' ? 'area' : 'cross',
      exposure: 1,
      stride: spec.moving?.stride,
      along: spec.moving?.along,
      phase: seeded(number).next(),
      noise,
      seed: 7919 * number + seed,
    })
    return { xyz, ...(by === 'shape' ? {} : { markers: seeMarkers(spec, optics, optics, stuck, things, { pose, noise, seed: 104729 * number + seed }) }) }
  }
  const onRound = (f: number) => handAt(f / (ROUND - 1), middle, spec.range.ideal)
  const atRound = (f: number) => {
    let s = kept.get(f)
    if (!s) kept.set(f, (s = shot(onRound(f), [...still, solid], f + 1)))
    return s
  }

  /** One recording to which one thing happens. */
  function torture(kind: Kind, which: number): Tally {
    const r = seeded(100 * KINDS.indexOf(kind) + which)
    const tracker = liveTracker(options)
    const from = Math.floor(r.next() * (ROUND - LED - 2 * MEANWHILE - ON - WITHIN))
    let time = 0
    let number = 100_000 * which
    // scanner to part, as it truly was
    const truth = new Map<number, { pose: Mat4; xyz: Float32Array }>()
    let entered: { time: number; pose: Mat4 }[] = []
    const t = none()
    let nudged: Mat4 | undefined
    let moved = solid
    const feed = (pose: Mat4, frame: Pick<LiveFrame, 'xyz' | 'markers'>) => {
      time += EVERY
      truth.set(time, { pose: nudged ? multiply(invertRigid(nudged), pose) : pose, xyz: frame.xyz })
      const s = tracker.feed({ time, ...frame })
      if (s.anew) entered = []
      entered.push(...s.entered)
      return s
    }
    const fresh = (pose: Mat4, more: Thing[] = []) => feed(pose, shot(pose, [...still, moved, ...more], ++number))
    let f = from
    for (let held = 0; held < HELD; f++) {
      if (f - from === PATIENCE) return { ...t, never: 1 }
      held = feed(onRound(f), atRound(f)).state === 'steady' && entered.length > 1 ? held + 1 : 0
    }
    for (const end = f + LED; f < end; f++) feed(onRound(f), atRound(f))
    const last = onRound(f - 1)
    const looked = transformPoint(last, 0, 0, spec.range.ideal)
    if (kind === 'jerk') {
      const away = about(looked, JERK, r)
      for (let k = 1; k <= MEANWHILE; k++) fresh(multiply(motionTimes(away, Math.min(1, k / 3)), last))
    } else if (kind === 'cover') {
      for (let k = 0; k < MEANWHILE; k++) feed(onRound(f), { xyz: new Float32Array(0) })
    } else if (kind === 'hand') {
      const reach = divide(box([-35, -80, -15], [35, 80, 15]), 20)
      for (let k = 0; k < MEANWHILE; k++, f++) fresh(onRound(f), [thing(reach, translation(middle[0] - 60 + 8 * k, middle[1] - 40, b[5] + 25))])
    } else if (kind === 'nudge') {
      nudged = about(middle, NUDGE, r)
      moved = thing(mesh, nudged)
      for (let k = 0; k < 2 * MEANWHILE; k++, f++) fresh(onRound(f))
    } else {
      time += EVERY * MEANWHILE
      f += MEANWHILE
    }
    const ghost = tracker.ghost()
    if (ghost && nudged && table && by !== 'markers') t.gone++
    else if (ghost) {
      t.lost++
      // in the world: as the model's axes lie in it
      const first = entered.at(-1)
      const at = first && truth.get(first.time)
      const axes = by !== 'shape' || !at || !first ? identity() : multiply(multiply(nudged ?? identity(), at.pose), invertRigid(first.pose))
      const back = multiply(axes, ghost)
      const beside = about([0, 0, spec.range.ideal], BESIDE, r)
      let weak = false
      for (let i = 0; i < WITHIN; i++) {
        const there = motionTimes(beside, Math.max(NEAR, 1 - i / ARRIVES))
        const s = fresh(multiply(back, multiply(trembling(i), there)))
        weak = s.state === 'weak'
        if (s.state !== 'steady') continue
        t.found++
        for (let k = 0; k < ON; k++) fresh(multiply(back, multiply(translation(3 * k, 0, 0), multiply(trembling(i + k), there))))
        break
      }
      if (weak) t.free++
    } else for (let k = 0; k < ON; k++, f++) fresh(onRound(f))
    entered.push(...tracker.finish())
    judge(entered, truth, t)
    return t
  }

  function judge(entered: { time: number; pose: Mat4 }[], truth: Map<number, { pose: Mat4; xyz: Float32Array }>, t: Tally): void {
    if (!entered.length) return
    // the model's axes, by the first frames together, as they hold one another: of those the one that lies in the middle of the others
    const axesOf = (e: { time: number; pose: Mat4 }) => multiply(e.pose, invertRigid(truth.get(e.time)!.pose))
    const off = (e: { time: number; pose: Mat4 }, axes: Mat4) => {
      const { pose, xyz } = truth.get(e.time)!
      const at = [0, 0, 0]
      for (let i = 0; i < xyz.length; i++) at[i % 3] += (3 * xyz[i]) / xyz.length
      const a = transformPoint(e.pose, at[0], at[1], at[2])
      const c = transformPoint(multiply(axes, pose), at[0], at[1], at[2])
      return Math.hypot(a[0] - c[0], a[1] - c[1], a[2] - c[2])
    }
    let axes = identity()
    if (by === 'shape') {
      const firsts = entered.slice(0, 10)
      const each = firsts.map(axesOf)
      const sums = each.map((a) => firsts.reduce((s, e) => s + off(e, a), 0))
      axes = each[sums.indexOf(Math.min(...sums))]
    }
    for (const e of entered) {
      const d = off(e, axes)
      t.entered++
      t.worst = Math.max(t.worst, d)
      if (d > WRONG) t.wrong++
    }
  }
  return { torture }
}
