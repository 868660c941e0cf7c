import { deflateRawSync } from 'node:zlib'
import { identity, invertRigid, multiply, rotationVector, transformPoint, type Mat4 } from '@oak-gauge/core/base/mat4.ts'
import type { RunContext } from '@oak-gauge/core/base/run.ts'
import { seeded } from '@oak-gauge/core/base/random.ts'
import { quantile } from '@oak-gauge/core/base/stats.ts'
import { closeLoops, type TrackedFrame } from '@oak-gauge/core/capture/closing.ts'
import { encodeFrame, roundFrame } from '@oak-gauge/core/capture/framecode.ts'
import { liveTracker } from '@oak-gauge/core/capture/livetracker.ts'
import { relayFrames } from '@oak-gauge/core/capture/relay.ts'
import { stereoSight } from '@oak-gauge/core/markers/sight.ts'
import { trueOptics } from '@oak-gauge/core/scanner/optics.ts'
import { MATERIALS, type Thing } from '@oak-gauge/core/scanner/scene.ts'
import { lookingAt, seeMarkers } from '@oak-gauge/core/scanner/seemarkers.ts'
import { takeShot } from '@oak-gauge/core/scanner/shot.ts'
import type { Mesh } from '@oak-gauge/core/shape/mesh.ts'
import { boundingBox } from '@oak-gauge/core/shape/points.ts'
import { buildBvh } from '@oak-gauge/core/space/bvh.ts'
import { cad, tessellate } from '@oak-gauge/demo/cad.ts'
import { box, divide, together } from '@oak-gauge/demo/divide.ts'
import { bracket, NOMINAL_BRACKET } from '@oak-gauge/demo/parts/bracket.ts'
import { benchRefind } from './refind.ts'
import { DEVICES } from '@oak-gauge/scanners/devices.ts'

type Add = (what: string, got: string, must: string, aim: string) => void

const FRAMES = 600
/** ms between two frames */
const EVERY = 60
/** noise of Birch across a surface at its ideal distance, mm, and the cubes of the surface that grows */
const NOISE = 0.08
const SPACING = 1.4
/** px between samples: some 14 000 points a frame, of which the bracket's table is half */
const STRIDE = 4

/** Once round the bracket on its table by hand: at the ideal distance give or take, rising and sinking, the aim wandering. a: 0..1 */
export function handAt(a: number, middle: number[], ideal: number): Mat4 {
  const azimuth = 2 * Math.PI * a
  const elevation = ((50 + 18 * Math.sin(10 * Math.PI * a)) * Math.PI) / 180
  const aim = [middle[0] + 25 * Math.sin(14 * Math.PI * a), middle[1] + 25 * Math.cos(10 * Math.PI * a), middle[2]]
  const d = ideal * (1 + 0.08 * Math.sin(12 * Math.PI * a))
  const eye = [aim[0] + d * Math.cos(elevation) * Math.cos(azimuth), aim[1] + d * Math.cos(elevation) * Math.sin(azimuth), aim[2] + d * Math.sin(elevation)]
  return lookingAt(eye, aim, 20 * Math.sin(4 * Math.PI * a))
}

/** Recording: the physics of the stand-ins, frames as bytes, and tracking by shape round the bracket, from nothing, with nothing but its shape. */
export async function benchCapture(add: Add, ctx: RunContext): Promise<void> {
  await cad()
  const part = tessellate(await bracket(NOMINAL_BRACKET), 0.01, 6)
  const scene = together(part, divide(box([-170, -140, -12], [170, 140, 0]), 8))
  const things: Thing[] = [{ kind: 'mesh', mesh: scene, bvh: buildBvh(scene, 'median'), pose: identity(), material: MATERIALS.matte }]
  const b = boundingBox(part.vertices)
  const middle = [0, 1, 2].map((k) => (b[k] + b[k + 3]) / 2)
  const { spec, seed, noise } = DEVICES['birch']
  const optics = trueOptics(spec.design, seed, { celsius: 28, days: 3, drops: 0 })

  const frames: { pose: Mat4; xyz: Float32Array; intensity: Uint8Array }[] = []
  const began = performance.now()
  for (let f = 0; f < FRAMES; f++) {
    const pose = handAt(f / (FRAMES - 1), middle, spec.range.ideal)
    const shot = takeShot(spec, optics, optics, things, { pose, pattern: 'area', exposure: 1, stride: STRIDE, noise, seed: 7919 * (f + 1) + seed })
    frames.push({ pose, xyz: shot.xyz, intensity: shot.intensity })
  }
  const points = frames.reduce((s, f) => s + f.xyz.length / 3, 0)
  add(
    `stand-in Birch, ${FRAMES} frames round the bracket on its table, ${(points / FRAMES / 1000).toFixed(1)} k points each: a frame`,
    `${((performance.now() - began) / FRAMES).toFixed(0)} ms`,
    '',
    '',
  )
  coded(frames.slice(0, 60), add)
  await tracked(frames, add, ctx)
  const seen = (pose: Mat4, k: number) =>
    takeShot(spec, optics, optics, things, { pose, pattern: 'area', exposure: 1, stride: STRIDE, noise, seed: 6007 * k + seed }).xyz
  benchRefind(frames, seen, middle, spec.range.ideal, { spacing: SPACING, noise: NOISE, every: EVERY }, add)
  byMarkers(part, middle, add)
}

/**
 * The same hand with Alder's crossing lines, over a map of markers round the part that is itself known to five micrometres: by markers, and by markers and shape.
 * Believed optics are the true ones: what the calibration errs is another row's.
 */
function byMarkers(part: Mesh, middle: number[], add: Add): void {
  const { spec, seed, noise } = DEVICES['alder']
  const optics = trueOptics(spec.design, seed, { celsius: 28, days: 3, drops: 0 })
  const things: Thing[] = [{ kind: 'mesh', mesh: part, bvh: buildBvh(part, 'median'), pose: identity(), material: MATERIALS.matte }]
  const r = seeded(31)
  const stuck = { positions: [] as number[], normals: [] as number[], diameters: [] as number[] }
  while (stuck.diameters.length < 48) {
    const [x, y] = [middle[0] + 380 * (r.next() - 0.5), middle[1] + 320 * (r.next() - 0.5)]
    if (Math.abs(x - middle[0]) < 85 && Math.abs(y - middle[1]) < 60) continue
    stuck.positions.push(x, y, r.next() < 0.3 ? 30 * r.next() : 0)
    stuck.normals.push(0, 0, 1)
    stuck.diameters.push(6)
  }
  const map = { ...stuck, positions: stuck.positions.map((v) => v + MAPPED * r.gauss()), sigma: stuck.diameters.map(() => MAPPED) }
  const frames = Array.from({ length: FRAMES / 2 }, (_, f) => {
    const pose = handAt((2 * f) / (FRAMES - 1), middle, spec.range.ideal)
    const shot = takeShot(spec, optics, optics, things, {
      pose,
      pattern: 'cross',
      exposure: 1,
      along: 1,
      phase: seeded(f).next(),
      noise,
      seed: 7919 * (f + 1) + seed,
    })
    return { pose, xyz: shot.xyz, markers: seeMarkers(spec, optics, optics, stuck, things, { pose, noise, seed: 104729 * (f + 1) + seed }) }
  })
  for (const by of ['markers', 'both'] as const) {
    const tracker = liveTracker({ spacing: 0.8, noise: LINES_NOISE, by, markers: { map, sight: stereoSight(optics), noise: 0.03 } })
    const times: number[] = []
    const off: number[] = []
    const normalised: number[] = []
    frames.forEach(({ pose, xyz, markers }, k) => {
      const t = performance.now()
      const s = tracker.feed({ time: EVERY * k, xyz, markers })
      times.push(performance.now() - t)
      if (s.state !== 'steady' || !s.laid) return
      const d = multiply(s.pose, invertRigid(pose))
      const w = rotationVector(d)
      const at = s.laid.middle
      const to = transformPoint(invertRigid(d), at[0], at[1], at[2])
      const e = [...w.map((v) => v * s.laid!.lever), ...at.map((v, i) => v - to[i])]
      off.push(Math.hypot(e[3], e[4], e[5]))
      for (let m = 0; m < 6; m++) normalised.push(e.reduce((sum, v, i) => sum + v * s.laid!.motions[6 * i + m], 0) / s.laid.sigmas[m])
    })
    times.sort((a, b) => a - b)
    const rms = (list: number[]) => Math.sqrt(list.reduce((sum, v) => sum + v * v, 0) / list.length)
    add(
      `Alder, ${frames.length} frames of ${(frames.reduce((sum, f) => sum + f.xyz.length / 3, 0) / frames.length / 1000).toFixed(1)} k points round the bracket, ${by === 'both' ? 'markers and shape' : 'markers'}: rms off at the frame's middle / worst / rms of normalised errors / placed / a frame, mean and 95 %`,
      `${rms(off).toFixed(4)} / ${Math.max(...off).toFixed(4)} mm / ${rms(normalised).toFixed(2)} / ${tracker.frames()} / ${(times.reduce((a, b) => a + b, 0) / times.length).toFixed(0)} and ${quantile(times, 0.95).toFixed(0)} ms`,
      '0.03 mm; 0.7-1.4',
      '0.015; 0.85-1.2',
    )
  }
}
/** mm: of the markers of the map, and of Alder's points across a surface at its ideal distance */
const MAPPED = 0.005
const LINES_NOISE = 0.05

function coded(frames: { xyz: Float32Array; intensity: Uint8Array }[], add: Add): void {
  let [bytes, points, ms] = [0, 0, 0]
  for (const { xyz, intensity } of frames) {
    const t = performance.now()
    const rounded = roundFrame(xyz, NOISE / 4)
    bytes += deflateRawSync(encodeFrame({ xyz: rounded, intensity }, NOISE / 4), { level: 3 }).length
    ms += performance.now() - t
    points += xyz.length / 3
  }
  add(
    'a frame as bytes, in steps of a quarter of the noise, with intensity: bytes a point / ms a frame',
    `${(bytes / points).toFixed(1)} / ${(ms / frames.length).toFixed(1)} ms`,
    '6',
    '',
  )
}

async function tracked(frames: { pose: Mat4; xyz: Float32Array }[], add: Add, ctx: RunContext): Promise<void> {
  const tracker = liveTracker({ spacing: SPACING, noise: NOISE })
  const times: number[] = []
  const placed: (TrackedFrame & { truth: Mat4 })[] = []
  let most = 0
  frames.forEach(({ xyz }, k) => {
    const t = performance.now()
    const s = tracker.feed({ time: EVERY * k, xyz })
    times.push(performance.now() - t)
    if (s.anew) placed.length = 0
    for (const { time, pose } of s.entered) placed.push({ time, pose, xyz: frames[time / EVERY].xyz, span: s.span, truth: frames[time / EVERY].pose })
    if (s.state === 'steady' && s.laid) most = Math.max(most, ...s.laid.sigmas)
  })
  placed.sort((a, b) => a.time - b.time)
  times.sort((a, b) => a - b)
  add(
    `tracking by shape, ${frames.length} frames, a model of ${(tracker.surface().cubes() / 1000).toFixed(0)} k cubes: a frame, mean / 95 %`,
    `${(times.reduce((s, v) => s + v, 0) / times.length).toFixed(0)} / ${quantile(times, 0.95).toFixed(0)} ms`,
    '67 ms (15 a second)',
    '33 ms',
  )
  const live = offOf(
    placed,
    placed.map((f) => f.pose),
  )
  add(
    'the same: ends meet, before closing / furthest off of all frames that were placed / largest error stated of one / frames that were weak or lost and stayed out',
    `${live.ends.toFixed(3)} / ${live.worst.toFixed(3)} / ${most.toFixed(3)} mm / ${frames.length - placed.length}`,
    '0.5 mm',
    '0.2 mm',
  )
  const began = performance.now()
  const closed = await closeLoops(placed, {}, ctx)
  const solved = performance.now()
  const relaid = await relayFrames(placed, closed.poses, { spacing: SPACING, noise: NOISE }, ctx)
  const [c, r] = [offOf(placed, closed.poses), offOf(placed, relaid.poses)]
  add(
    'solved together: ends meet / worst frame / rms of all; and each frame laid on all once more',
    `${c.ends.toFixed(3)} / ${c.worst.toFixed(3)} / ${c.rms.toFixed(3)}; ${r.ends.toFixed(3)} / ${r.worst.toFixed(3)} / ${r.rms.toFixed(3)} mm`,
    '0.08 mm',
    '0.04 mm',
  )
  add(
    `the same: the ends were apart by, as found / gaps left there / worst piece stated / one end to the other stated / time of both`,
    `${closed.seam.before.toFixed(3)} / ${closed.seam.after.toFixed(4)} / ${Math.max(...closed.pieces.map((p) => p.sigma)).toFixed(3)} / ${(closed.stretch?.sigma ?? 0).toFixed(3)} mm / ${((solved - began) / 1000).toFixed(0)} + ${((performance.now() - solved) / 1000).toFixed(0)} s`,
    '',
    '',
  )
}

/** How far frames are from the truth at their middles, against the first: the mean of the last ten, the worst, the rms of all; mm. The first ten together are the place of the first. */
function offOf(frames: (TrackedFrame & { truth: Mat4 })[], poses: Mat4[]): { ends: number; worst: number; rms: number } {
  const middles = frames.map(({ xyz }) => {
    const s = [0, 0, 0]
    for (let i = 0; i < xyz.length; i++) s[i % 3] += (3 * xyz[i]) / xyz.length
    return s
  })
  // truth to model: the one of the first that is in the middle of them, by its largest distance to the others
  const firsts = poses.slice(0, 10).map((p, i) => multiply(p, invertRigid(frames[i].truth)))
  const off = (first: Mat4, i: number) => {
    const a = transformPoint(poses[i], middles[i][0], middles[i][1], middles[i][2])
    const b = transformPoint(multiply(first, frames[i].truth), middles[i][0], middles[i][1], middles[i][2])
    return Math.hypot(a[0] - b[0], a[1] - b[1], a[2] - b[2])
  }
  const scores = firsts.map((f) => firsts.reduce((s, _, i) => s + off(f, i), 0))
  const first = firsts[scores.indexOf(Math.min(...scores))]
  const all = poses.map((_, i) => off(first, i))
  return {
    ends: all.slice(-10).reduce((s, v) => s + v / 10, 0),
    worst: Math.max(...all),
    rms: Math.sqrt(all.reduce((s, v) => s + v * v, 0) / all.length),
  }
}
