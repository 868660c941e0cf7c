import { fitRigid } from '@oak-gauge/core/align/pairs.ts'
import { invertRigid, transformPoint } from '@oak-gauge/core/base/mat4.ts'
import { seeded, type Random } from '@oak-gauge/core/base/random.ts'
import { quietContext } from '@oak-gauge/core/base/run.ts'
import { calibrateStereo } from '@oak-gauge/core/calibrate/calibration.ts'
import type { Stereo } from '@oak-gauge/core/calibrate/camera.ts'
import { targetPoses } from '@oak-gauge/core/calibrate/targets.ts'
import { adjustMarkers } from '@oak-gauge/core/markers/adjust.ts'
import { makeConstellation } from '@oak-gauge/core/markers/constellation.ts'
import { matchConstellation } from '@oak-gauge/core/markers/match.ts'
import { turned } from '@oak-gauge/core/markers/levelled.ts'
import { mapFrames, type MappedFrames } from '@oak-gauge/core/markers/mapframes.ts'
import { judgePlan } from '@oak-gauge/core/markers/plan/judge.ts'
import { planMarkers } from '@oak-gauge/core/markers/plan/plan.ts'
import { planScene, planStands, viewOf } from '@oak-gauge/core/markers/plan/scene.ts'
import { invertSymmetric3, quadratic3, stereoSight, type MarkerFrame } from '@oak-gauge/core/markers/sight.ts'
import { trueOptics } from '@oak-gauge/core/scanner/optics.ts'
import { rehearseObservations } from '@oak-gauge/core/scanner/rehearse.ts'
import { lookingAt, seeMarkers, type StuckMarkers } from '@oak-gauge/core/scanner/seemarkers.ts'
import { boxSolid } from '@oak-gauge/core/shape/solids.ts'
import { PLATES } from '@oak-gauge/scanners/artefacts.ts'
import { DEVICES, type Device } from '@oak-gauge/scanners/devices.ts'

type Add = (what: string, got: string, must: string, aim: string) => void
interface Layout extends StuckMarkers {
  positions: number[]
  normals: number[]
  diameters: number[]
}

const alder = DEVICES['alder']

/** Planning, mapping and matching of markers. */
export function benchMarkers(add: Add): void {
  mapped(add)
  solving(add)
  matching(add)
  moved(add)
  aged(add)
  planning(add)
}

function strewn(random: Random, count: number, w: number, h: number, apart = 30): Layout {
  const l: Layout = { positions: [], normals: [], diameters: [] }
  while (l.diameters.length < count) {
    const x = (random.next() - 0.5) * w
    const y = (random.next() - 0.5) * h
    if (l.diameters.some((_, i) => Math.hypot(l.positions[3 * i] - x, l.positions[3 * i + 1] - y) < apart)) continue
    l.positions.push(x, y, random.next() < 0.3 ? 30 * random.next() : 0)
    l.normals.push(0, 0, 1)
    l.diameters.push(random.next() < 0.5 ? 3 : 6)
  }
  return l
}

function pathPose(a: number) {
  const t = [130 * Math.sin(2 * Math.PI * 2.3 * a), 90 * Math.cos(2 * Math.PI * 1.7 * a), 0]
  const az = 4 * Math.PI * a
  const el = ((60 + 25 * Math.sin(10 * Math.PI * a)) * Math.PI) / 180
  const d = 400 + 40 * Math.sin(20 * a)
  return lookingAt([t[0] + d * Math.cos(el) * Math.cos(az), t[1] + d * Math.cos(el) * Math.sin(az), d * Math.sin(el)], t, 360 * a)
}

/** A recording with Alder along a path, its true optics and those that are believed. */
function record(l: Layout, count: number, seed: number, truth: Stereo, believed: Stereo, change?: (f: number) => void): MarkerFrame[] {
  return Array.from({ length: count }, (_, f) => {
    change?.(f)
    const seen = seeMarkers(alder.spec, truth, believed, l, [], {
      pose: pathPose(f / count),
      noise: alder.noise,
      seed: 1000 * seed + f,
      strays: 0.1,
      dropouts: 0.05,
    })
    return { time: 60 * f, xyz: seen.xyz, diameters: seen.diameters }
  })
}

/** True marker for each of the map, by the pose of the first frame, in whose axes the map stands. */
function pairUp(m: MappedFrames, l: Layout): { map: number; true: number }[] {
  const first = pathPose(0)
  const p = m.markers.positions
  return m.markers.ids.flatMap((_, i) => {
    const q = transformPoint(first, p[3 * i], p[3 * i + 1], p[3 * i + 2])
    const k = l.diameters.findIndex((_d, j) => Math.hypot(q[0] - l.positions[3 * j], q[1] - l.positions[3 * j + 1], q[2] - l.positions[3 * j + 2]) < 5)
    return k < 0 ? [] : [{ map: i, true: k }]
  })
}

function mapped(add: Add): void {
  const truth = trueOptics(alder.spec.design, alder.seed, { celsius: 31.6, days: 20, drops: 0 })
  const plate = PLATES.find((p) => p.id === 'Q12') ?? PLATES[0]
  let [ss, n, nees, freedom, worst] = [0, 0, 0, 0, 0]
  for (let trial = 0; trial < 8; trial++) {
    const observations = rehearseObservations(
      truth,
      plate,
      targetPoses(alder.spec, truth, plate).map((t) => t.pose),
      20.6,
      50 + trial,
    )
    const believed = calibrateStereo({ plate, observations, width: 1024, height: 768 }).stereo
    const l = strewn(seeded(trial + 1), 40, 400, 300)
    const m = mapFrames(record(l, 300, trial, truth, believed), { stereo: believed }, quietContext)
    const pairs = pairUp(m, l)
    const fit = fitRigid(
      pairs.flatMap((p) => [...m.markers.positions.subarray(3 * p.map, 3 * p.map + 3)]),
      pairs.flatMap((p) => l.positions.slice(3 * p.true, 3 * p.true + 3)),
    )
    const placed = turned(m.markers, fit.pose)
    const inverse = new Float64Array(6)
    for (const p of pairs) {
      const e = [0, 1, 2].map((k) => placed.positions[3 * p.map + k] - l.positions[3 * p.true + k])
      invertSymmetric3(placed.covariance, inverse, 6 * p.map)
      nees += quadratic3(inverse, e[0], e[1], e[2])
      ss += e[0] ** 2 + e[1] ** 2 + e[2] ** 2
      n++
    }
    freedom += 3 * pairs.length - 6
    worst = Math.max(worst, fit.max)
  }
  add(
    'map of 40 markers on 400 x 300 mm, Alder calibrated from plates, error rms / largest of 8',
    `${Math.sqrt(ss / n).toFixed(4)} / ${worst.toFixed(4)} mm`,
    '0.02 mm rms',
    '0.008 mm rms',
  )
  add('its stated uncertainty: rms of the normalised errors', Math.sqrt(nees / freedom).toFixed(2), '0.7-1.4', '0.9-1.1')
}

function solving(add: Add): void {
  const l = strewn(seeded(3), 60, 500, 400)
  const s = alder.spec.design
  const frame: number[] = []
  const marker: number[] = []
  const xyz: number[] = []
  const r = seeded(9)
  const poses = Array.from({ length: 300 }, (_, f) => {
    const pose = pathPose(f / 300)
    const seen = seeMarkers(alder.spec, s, s, l, [], { pose, noise: alder.noise, seed: f, strays: 0 })
    seen.truth.forEach((m, i) => {
      frame.push(f)
      marker.push(m)
      xyz.push(...seen.xyz.subarray(3 * i, 3 * i + 3))
    })
    return invertRigid(pose)
  })
  const sightings = { frame: Int32Array.from(frame), marker: Int32Array.from(marker), xyz: Float64Array.from(xyz) }
  const seconds = median(5, () =>
    adjustMarkers({ sightings, poses, positions: Float64Array.from(l.positions, (v) => v + 0.05 * r.gauss()), sight: stereoSight(s) }),
  )
  add('joint solution of 300 frames and 60 markers, with uncertainties', `${seconds.toFixed(2)} s`, '5 s', '1 s')
  const frames = record(l, 300, 1, s, s)
  add(
    'the same from the raw frames: tracking, solving, looking for what moved',
    `${median(3, () => mapFrames(frames, { stereo: s }, quietContext)).toFixed(2)} s`,
    '',
    '',
  )
}

function matching(add: Add): void {
  const r = seeded(4)
  const layouts: Record<string, { map: Layout; over: Layout; w: number; h: number }> = {}
  const large = strewn(r, 500, 1500, 1200)
  const own = (l: Layout, w: number, h: number) => ({ map: l, over: l, w, h })
  layouts['500'] = own(large, 1500, 1200)
  layouts['40'] = own(strewn(r, 40, 400, 300), 400, 300)
  layouts['twins'] = own(twins(r), 1300, 1000)
  layouts['grid'] = own(grid(), 1400, 1100)
  layouts['unknown'] = { map: large, over: strewn(r, 500, 1500, 1200), w: 1500, h: 1200 }
  let wrong = 0
  let frames = 0
  let share = 0
  const times: number[] = []
  for (const device of [alder, DEVICES['birch']])
    for (const [name, l] of Object.entries(layouts)) {
      const t = tryFrames(device, l, 1000, frames)
      wrong += t.wrong
      frames += t.tried
      if (name === '500' && device === alder) {
        times.push(...t.times)
        share = t.found / t.tried
      }
    }
  times.sort((a, b) => a - b)
  const at = (q: number) => times[Math.floor(q * (times.length - 1))].toFixed(2)
  add('frame found in a map of 500 markers, median / 95 % / largest', `${at(0.5)} / ${at(0.95)} / ${at(1)} ms`, '10 ms', '2 ms')
  add('frames of that map with four or more markers that are found', `${(100 * share).toFixed(1)} %`, '', '')
  add(`wrong matches accepted in ${frames} random frames (also repeated groups, a regular grid, unknown markers)`, String(wrong), '0', '0')
}

function tryFrames(device: Device, l: { map: Layout; over: Layout; w: number; h: number }, count: number, seed: number) {
  const s = device.spec.design
  const sight = stereoSight(s)
  const { near, far } = device.spec.range
  const c = makeConstellation(l.map.positions, { diameters: l.map.diameters, normals: l.map.normals, sigma: l.map.diameters.map(() => 0.003), reach: 700 })
  const r = seeded(seed + 11)
  const out = { found: 0, wrong: 0, tried: 0, times: [] as number[] }
  const one = new Float64Array(6)
  while (out.tried < count) {
    const az = 2 * Math.PI * r.next()
    const el = ((40 + 49 * r.next()) * Math.PI) / 180
    const d = 1.1 * near + 0.8 * r.next() * (far - near)
    const t = [(r.next() - 0.5) * 0.8 * l.w, (r.next() - 0.5) * 0.8 * l.h, 0]
    const pose = lookingAt([t[0] + d * Math.cos(el) * Math.cos(az), t[1] + d * Math.cos(el) * Math.sin(az), d * Math.sin(el)], t, 360 * r.next())
    const seen = seeMarkers(device.spec, s, s, l.over, [], { pose, noise: device.noise, seed: r.below(1e9), strays: r.next() < 0.3 ? 2 : 0.1, dropouts: 0.15 })
    const n = seen.diameters.length
    if (n < 4) continue
    out.tried++
    const info = new Float64Array(6 * n)
    for (let i = 0; i < n; i++) {
      sight(seen.xyz[3 * i], seen.xyz[3 * i + 1], seen.xyz[3 * i + 2], one)
      info.set(one, 6 * i)
    }
    const began = performance.now()
    const m = matchConstellation(c, { xyz: seen.xyz, diameters: seen.diameters, info, noise: 1.15 * device.noise })
    out.times.push(performance.now() - began)
    if (m.kind !== 'found') continue
    out.found++
    if (l.map !== l.over || m.pairs.some((p, i) => p >= 0 && p !== seen.truth[i])) out.wrong++
  }
  return out
}

function grid(): Layout {
  const l: Layout = { positions: [], normals: [], diameters: [] }
  for (let i = 0; i < 500; i++) {
    l.positions.push((i % 25) * 60 - 720, Math.floor(i / 25) * 60 - 570, 0)
    l.normals.push(0, 0, 1)
    l.diameters.push(6)
  }
  return l
}

/** Every second group of seven is the same. */
function twins(r: Random): Layout {
  const l: Layout = { positions: [], normals: [], diameters: [] }
  const same = strewn(r, 7, 200, 200, 35)
  for (let k = 0; k < 12; k++) {
    const g = k % 2 ? same : strewn(r, 7, 200, 200, 35)
    for (let i = 0; i < 7; i++) {
      l.positions.push(g.positions[3 * i] + (k % 4) * 330 - 495, g.positions[3 * i + 1] + Math.floor(k / 4) * 330 - 330, g.positions[3 * i + 2])
      l.normals.push(0, 0, 1)
      l.diameters.push(g.diameters[i])
    }
  }
  return l
}

function moved(add: Add): void {
  const s = alder.spec.design
  const trials = 100
  let [named, others] = [0, 0]
  for (let k = 0; k < trials; k++) {
    const r = seeded(700 + k)
    const l = strewn(r, 40, 400, 300)
    const mover = r.below(40)
    const when = 100 + r.below(100)
    const d = [r.gauss(), r.gauss(), r.gauss()]
    const length = Math.hypot(...d)
    const frames = record(l, 300, 300 + k, s, s, (f) => {
      if (f === when) for (let i = 0; i < 3; i++) l.positions[3 * mover + i] += (0.3 * d[i]) / length
    })
    const m = mapFrames(frames, { stereo: s }, quietContext)
    const at = pairUp(m, l).find((p) => p.true === mover)
    const id = at && m.markers.ids[at.map]
    if (m.moved.some((c) => c.id === id)) named++
    if (m.moved.some((c) => c.id !== id) || m.missing.length > 0) others++
  }
  add(`a marker moved by 0.3 mm while recording is named / another is, ${trials} recordings`, `${named} % / ${others} %`, '95 % / 0', '99 % / 0')
}

/** Scanners that believe what they were made with, cold, and record warm and 300 days later: nothing moves. */
function aged(add: Add): void {
  let [named, all] = [0, 0]
  for (let k = 0; k < 10; k++) {
    const optics = (celsius: number, days: number) => trueOptics(alder.spec.design, alder.seed + 1000 * k, { celsius, days, drops: 0 })
    const m = mapFrames(
      record(strewn(seeded(k + 1), 90, 640, 480), 420, 900 + k, optics(31.6, 300), optics(20.6, 0)),
      { stereo: optics(20.6, 0) },
      quietContext,
    )
    named += m.moved.length
    all += m.markers.ids.length
  }
  add('ten scanners warm and 300 days after they were calibrated, 90 markers that stand still: said to have moved', `${named} of ${all}`, '', '0')
}

function planning(add: Add): void {
  const view = viewOf(alder.spec)
  const options = {
    where: 'both' as const,
    sizes: 'mixed' as const,
    least: 4,
    wanted: 6,
    spacing: 50,
    clearEdge: 25,
    keepClear: [],
    keepFaces: [],
    blocks: true,
    towers: true,
    from: 'above' as const,
  }
  const box = boxSolid(300, 180, 60)
  let count = 0
  const seconds = median(3, () => (count = planMarkers(planScene(box), view, options, quietContext).markers.ids.length))
  add(`plan for a part of 300 x 180 x 60 mm (${count} markers)`, `${seconds.toFixed(2)} s`, '10 s', '3 s')
  const turnedAll = median(1, () => planMarkers(planScene(box), view, { ...options, where: 'part', from: 'all' }, quietContext))
  add('the same, markers on the part only, all directions', `${turnedAll.toFixed(2)} s`, '10 s', '3 s')
  const scene = planScene(box)
  const { stands, directions } = planStands(scene, view, 'above')
  const plan = planMarkers(scene, view, options, quietContext)
  const live = median(5, () => judgePlan(scene, view, stands, directions, plan.markers, { least: 4, wanted: 6, turns: false }))
  add(`verdict on its ${plan.markers.ids.length} markers while one is dragged`, `${(1000 * live).toFixed(0)} ms`, '200 ms', '')
}

function median(times: number, f: () => unknown): number {
  const out: number[] = []
  for (let k = 0; k < times; k++) {
    const began = performance.now()
    f()
    out.push((performance.now() - began) / 1000)
  }
  return out.sort((a, b) => a - b)[times >> 1]
}
