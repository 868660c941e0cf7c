import { deflateSync } from 'fflate'
import { fromRotationVector, identity, invertRigid, multiply, translation, type Mat4 } from '../base/mat4.ts'
import { seeded } from '../base/random.ts'
import { defineKernel, type RunContext } from '../base/run.ts'
import type { Stereo } from '../calibrate/camera.ts'
import { recordOf, type RecordedFrame } from '../formats/recording.ts'
import { MATERIALS, type Thing } from '../scanner/scene.ts'
import { seeMarkers, type StuckMarkers } from '../scanner/seemarkers.ts'
import { takeShot } from '../scanner/shot.ts'
import { bodyToLeft, type ScannerSpec } from '../scanner/spec.ts'
import { tableToBody } from '../scanner/turntable.ts'
import type { Mesh } from '../shape/mesh.ts'
import { boundingBox } from '../shape/points.ts'
import { boxSolid } from '../shape/solids.ts'
import { buildBvh } from '../space/bvh.ts'
import { encodeFrame } from './framecode.ts'
import { lineLength, PACE, wayOver } from './wayover.ts'
import { timesRound, wayRound } from './wayround.ts'

/** What a scanner makes of what is before it while it is moved. */
export interface RehearsedScanner {
  /** by which it sees; what it believes of itself is taken as true: how far that is off is told by its verification */
  optics: Stereo
  range: ScannerSpec['range']
  pattern: 'area' | 'cross' | 'line'
  /** px between samples of an area, or along a line. Defaults as of a shot */
  stride?: number | undefined
  along?: number | undefined
  /** px by which what is seen is located */
  located: number
  /** frames a second */
  rate: number
  /** it tells colours apart */
  colour?: boolean | undefined
  /** led round by a hand, over it on an arm, or before a turntable on which the part stands. Default 'hand' */
  way?: 'hand' | 'arm' | 'table' | undefined
  /** it says where it is, to so much along and about each axis (1 sigma): mm, degrees */
  own?: { mm: number; degrees: number } | undefined
}

export interface RehearsedScene {
  /** as it stands, z up, mm */
  part: Mesh
  markers?: StuckMarkers
  /** a table under it is measured as well */
  table?: boolean
  surface?: keyof typeof MATERIALS
}

export interface RehearsalOptions {
  /** once round, s: of what a hand leads. An arm and a turntable take as long as they take */
  seconds: number
  /** shots of a turntable, once round. Default 8 */
  shots?: number
  /** frames that are made, at the most: they are spread over the way evenly */
  frames: number
  /** 1: matt white at the ideal distance is well exposed. Default 1 */
  exposure?: number
  seed?: number
}

export interface RehearsedRecording {
  frames: RecordedFrame[]
  /** where the left camera truly was, by the frames' times: scanner to world */
  truth: Map<number, Mat4>
  /** of a real one: frames, points, and bytes as they are kept */
  expected: { frames: number; points: number; bytes: number; seconds: number }
  /** share of the light that met a surface but was too dark, and that was too bright, 0..1 */
  dark: number
  bright: number
}

/** ms that light falls in, for an exposure of 1 */
const EXPOSED = 2
/** how far a table goes beyond the part, mm, and how thick it is */
const BEYOND = 100
const THICK = 10
/** s that a shot takes, and until the table has turned on and stands (own choice) */
const SHOT = 0.3
const TURNED = 1
/** every so many frames one is written as it would be kept */
const WRITTEN = 8
/** mm: a quarter of usual noise */
const STEP = 0.02

interface Shots {
  things: Thing[]
  markers: StuckMarkers | undefined
  scanner: RehearsedScanner
  box: number[]
  seconds: number
  frames: number
  exposure: number
  seed: number
}
interface Taken {
  time: number
  pose: Mat4
  /** where it says that it is */
  at: Mat4
  xyz: Float32Array
  intensity: Uint8Array
  colours?: Uint8Array
  markers: { xyz: Float32Array; diameters: Float32Array }
  dark: number
  bright: number
}

/** Body to world, and how long it takes, s. */
function wayIn({ scanner, box, seconds, frames }: Pick<Shots, 'scanner' | 'box' | 'seconds' | 'frames'>): { seconds: number; at(share: number): Mat4 } {
  const { way, range, optics } = scanner
  if (way === 'arm') {
    const over = wayOver(box, range, lineLength(optics.left, range.ideal))
    return { seconds: over.length / PACE, at: (share) => over.at(share) }
  }
  if (way === 'table') {
    const stands = translation((box[0] + box[3]) / 2, (box[1] + box[4]) / 2, box[2])
    return { seconds: frames * (SHOT + TURNED), at: (share) => multiply(stands, invertRigid(tableToBody(range.ideal, 360 * share))) }
  }
  return { seconds: seconds * timesRound(box), at: (share) => wayRound(box, range.ideal, share) }
}

const shotsKernel = defineKernel('capture.rehearse', (a: Shots, start: number, end: number): Taken[] => {
  const { range, optics, pattern, stride, along, located } = a.scanner
  const { own, way, colour } = a.scanner
  const back = invertRigid(bodyToLeft(optics))
  const led = wayIn(a)
  const poseAt = (seconds: number) => multiply(led.at(seconds / a.seconds), back)
  return Array.from({ length: end - start }, (_, k) => {
    const n = start + k
    const seconds = ((n + (way === 'table' ? 0 : 0.5)) / a.frames) * a.seconds
    const pose = poseAt(seconds)
    // a table stands still for its shot
    const exposed = way === 'table' ? 0 : (EXPOSED * a.exposure) / 2000
    const [before, after] = [poseAt(seconds - exposed), poseAt(seconds + exposed)]
    const seed = a.seed + 7919 * n
    const r = seeded(seed + 3)
    const off = own && [...Array<number>(3).fill((own.degrees * Math.PI) / 180), ...Array<number>(3).fill(own.mm)].map((s) => s * r.gauss())
    // nobody waits for frames that are not made: from one to the next a real hand is followed step by step
    const at = off ? multiply(pose, fromRotationVector(off[0], off[1], off[2], off[3], off[4], off[5])) : pose
    const shot = takeShot({ range }, optics, optics, a.things, {
      pose,
      motion: after.slice(0, 12).map((v, i) => v - before[i]),
      pattern,
      stride,
      along,
      exposure: a.exposure,
      phase: pattern === 'line' ? 0.5 : seeded(seed + 1).next(),
      noise: located,
      seed,
      ...(colour ? { colour } : {}),
    })
    const markers = a.markers
      ? seeMarkers({ range }, optics, optics, a.markers, a.things, { pose, noise: located, seed: seed + 2 })
      : { xyz: new Float32Array(0), diameters: new Float32Array(0) }
    return { time: 1000 * seconds, pose, at, markers: { xyz: markers.xyz, diameters: markers.diameters }, ...shot }
  })
})

/**
 * A recording of a part that nobody has made yet: the scanner is led once round it (wayRound), over it (wayOver), or the part is turned before it, and each frame
 * is what the physics of a shot make of it (takeShot, seeMarkers). What it is solved by is what real ones are solved by: nothing but the frames is told. Deterministic for its input.
 */
export async function rehearseRecording(scene: RehearsedScene, scanner: RehearsedScanner, o: RehearsalOptions, ctx: RunContext): Promise<RehearsedRecording> {
  const box = boundingBox(scene.part.vertices)
  const material = MATERIALS[scene.surface ?? 'matte']
  const solid = (mesh: Mesh, pose: Mat4 = identity()): Thing => ({ kind: 'mesh', mesh, bvh: buildBvh(mesh, 'median'), pose, material })
  const things = [solid(scene.part)]
  if (scene.table) {
    const [x, y] = [box[3] - box[0] + 2 * BEYOND, box[4] - box[1] + 2 * BEYOND]
    const under = identity()
    under[3] = (box[0] + box[3]) / 2
    under[7] = (box[1] + box[4]) / 2
    under[11] = box[2] - THICK
    things.push(solid(boxSolid(x, y, THICK), under))
  }
  const shots = scanner.way === 'table' ? (o.shots ?? 8) : undefined
  const { seconds } = wayIn({ scanner, box: Array.from(box), seconds: o.seconds, frames: shots ?? 0 })
  const real = shots ?? Math.max(1, Math.round(seconds * scanner.rate))
  const frames = Math.min(shots ?? o.frames, real)
  const args: Shots = {
    things,
    markers: scene.markers,
    scanner,
    box: Array.from(box),
    seconds,
    frames,
    exposure: o.exposure ?? 1,
    seed: o.seed ?? 1,
  }
  const taken = (await ctx.parallel.map(shotsKernel, args, frames, 4, ctx, (d) => ctx.progress(d, 'frames'))).flat()
  let [points, dark, bright, bytes, written] = [0, 0, 0, 0, 0]
  taken.forEach((t, n) => {
    points += t.xyz.length / 3
    dark += t.dark / frames
    bright += t.bright / frames
    if (n % WRITTEN) return
    const markers = Array.from(t.markers.diameters).flatMap((d, i) => [...t.markers.xyz.subarray(3 * i, 3 * i + 3), d])
    bytes += recordOf(t.time, markers, deflateSync(encodeFrame(t, STEP), { level: 3 }), scanner.own && t.at).length
    written++
  })
  const share = real / frames
  return {
    frames: taken.map((t) => ({ time: t.time, at: t.at, markers: t.markers, points: () => t })),
    truth: new Map(taken.map((t) => [t.time, t.pose])),
    expected: { frames: real, points: Math.round(points * share), bytes: Math.round((bytes / written) * real), seconds },
    dark,
    bright,
  }
}
