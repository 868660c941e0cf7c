import { alignByShape } from '@oak-gauge/core/align/coarse.ts'
import { alignFine } from '@oak-gauge/core/align/fine.ts'
import { fitRigid } from '@oak-gauge/core/align/pairs.ts'
import { adjustJointly } from '@oak-gauge/core/align/joint.ts'
import { identity, invertRigid, multiply, poseDifference, transformPoint, type Mat4 } from '@oak-gauge/core/base/mat4.ts'
import { seeded } from '@oak-gauge/core/base/random.ts'
import type { RunContext } from '@oak-gauge/core/base/run.ts'
import { quantile } from '@oak-gauge/core/base/stats.ts'
import { calibrateStereo, type CalibrationResult } from '@oak-gauge/core/calibrate/calibration.ts'
import type { Stereo } from '@oak-gauge/core/calibrate/camera.ts'
import { targetPoses } from '@oak-gauge/core/calibrate/targets.ts'
import { floorOfMarkers } from '@oak-gauge/core/capture/floor.ts'
import { solveRecording } from '@oak-gauge/core/capture/solverecording.ts'
import { wayRound } from '@oak-gauge/core/capture/wayround.ts'
import type { RecordedFrame } from '@oak-gauge/core/formats/recording.ts'
import { coverageOf } from '@oak-gauge/core/inspect/coverage.ts'
import { deviationTo } from '@oak-gauge/core/inspect/deviation.ts'
import { turned } from '@oak-gauge/core/markers/levelled.ts'
import { mapFrames } from '@oak-gauge/core/markers/mapframes.ts'
import { worstUncertainty, type Markers } from '@oak-gauge/core/markers/markers.ts'
import { upright, uprightPose, type Up } from '@oak-gauge/core/markers/plan/shape.ts'
import { stereoSight } from '@oak-gauge/core/markers/sight.ts'
import { mergePasses } from '@oak-gauge/core/merge/merge.ts'
import { bestFitOperation } from '@oak-gauge/core/operations/best-fit.ts'
import { deviation } from '@oak-gauge/core/operations/deviation.ts'
import { flag } from '@oak-gauge/core/operations/flag.ts'
import { LEAST_COVERED } from '@oak-gauge/core/operations/inspect-pass.ts'
import type { Field, Item } from '@oak-gauge/core/operations/operation.ts'
import { operation } from '@oak-gauge/core/operations/registry.ts'
import { lineNoise } from '@oak-gauge/core/scanner/linenoise.ts'
import { trueOptics } from '@oak-gauge/core/scanner/optics.ts'
import { rehearseObservations } from '@oak-gauge/core/scanner/rehearse.ts'
import { MATERIALS, type Thing } from '@oak-gauge/core/scanner/scene.ts'
import { seeMarkers } from '@oak-gauge/core/scanner/seemarkers.ts'
import { takeShot } from '@oak-gauge/core/scanner/shot.ts'
import { bodyToLeft } from '@oak-gauge/core/scanner/spec.ts'
import { transformMesh, type Mesh } from '@oak-gauge/core/shape/mesh.ts'
import { boundingBox, type Placed, type Points } from '@oak-gauge/core/shape/points.ts'
import { boxSolid } from '@oak-gauge/core/shape/solids.ts'
import { buildBvh } from '@oak-gauge/core/space/bvh.ts'
import { COVERAGE } from '@oak-gauge/core/uncertainty/contribution.ts'
import { scannerUncertainty } from '@oak-gauge/core/uncertainty/scanner.ts'
import { cad, tessellate } from '@oak-gauge/demo/cad.ts'
import { bracket, NOMINAL_BRACKET } from '@oak-gauge/demo/parts/bracket.ts'
import { PLATES } from '@oak-gauge/scanners/artefacts.ts'
import { DEVICES } from '@oak-gauge/scanners/devices.ts'
import { StandIn } from '@oak-gauge/scanners/standin.ts'
import { bores, boresBeside, NOMINAL_BORES } from './bores.ts'
import { onTheBar } from './calibrate.ts'

type Add = (what: string, got: string, must: string, aim: string) => void

const device = DEVICES['alder']
const { spec, seed, noise } = device
const SECONDS = 80
const MAPPING = 300
const SPACING = 0.5
const RAISE = 0.5
/** how the part stood, one after the other */
const SETUPS: readonly Up[] = ['+z', '+y', '-y']

/**
 * The bracket from nothing: Alder is calibrated on its plate and verified on the ball bar, the markers round the part are mapped, the part is recorded on its table in
 * three setups, held by them; brought together by shape, adjusted, merged. What comes of it, against the part as it is; calibrated just then, and three weeks before.
 */
export async function benchRecorded(add: Add, ctx: RunContext): Promise<void> {
  await cad()
  const part = tessellate(await bracket(NOMINAL_BRACKET), 0.01, 6)
  for (const days of [0, 21]) await fromNothing(part, days, add, ctx)
}

async function fromNothing(part: Mesh, days: number, add: Add, ctx: RunContext): Promise<void> {
  const when = days ? `calibrated ${days} days before` : 'calibrated just then'
  const state = { celsius: Math.round((20.6 + device.rise) / 0.1) * 0.1, days: 200, drops: 0 }
  const truth = trueOptics(spec.design, seed, state)
  const calibration = calibrated(trueOptics(spec.design, seed, { ...state, days: state.days - days }))
  const standIn = new StandIn(device, { drops: 0, made: Date.now() - state.days * 86_400_000, calibration: null }, { factor: 1, now: () => 36_000_000 })
  const bar = onTheBar(standIn, calibration).rows[2]
  const distance = { error: Math.abs(bar.value), U: bar.uncertainty }
  const believed = calibration.stereo
  const passes: Placed<Points>[] = []
  const truly: Mat4[] = []
  const laps: string[] = []
  let last = performance.now()
  const lap = (name: string) => {
    laps.push(`${name} ${((performance.now() - last) / 1000).toFixed(0)}`)
    last = performance.now()
  }
  let frames = 0
  for (const up of SETUPS) {
    const { points, toPart, placed, of, held } = await recorded(part, up, truth, believed, ctx)
    add(
      `the bracket, ${up} up, recorded with Alder over its own map, ${when}: frames placed / points / held within, stated`,
      `${placed} of ${of} / ${(points.xyz.length / 3000).toFixed(0)} k / ${held.toFixed(4)} mm`,
      '',
      '',
    )
    passes.push({ name: up, data: points, pose: identity() })
    truly.push(toPart)
    frames = Math.max(frames, held)
  }
  lap('recorded')
  const start = [passes[0]]
  for (const [k, p] of passes.slice(1).entries()) {
    const coarse = await alignByShape(start, [p], { seed: k + 1 }, ctx)
    const fine = await alignFine(start, [{ ...p, pose: coarse.pose }], {}, ctx)
    start.push({ ...p, pose: multiply(fine.move, coarse.pose) })
  }
  const joint = await adjustJointly(start, { setups: SETUPS.map((_, i) => i) }, ctx)
  lap('aligned')
  const off = joint.poses.map((p, i) => poseDifference(multiply(truly[0], p), truly[i], boundingBox(passes[i].data.xyz)).rms)
  add(`its setups adjusted, ${when}: furthest from the truth (stated)`, `${Math.max(...off).toFixed(4)} mm (${joint.error.toFixed(4)} mm)`, '', '')
  const together = passes.map((p, i) => ({ ...p, pose: joint.poses[i] }))
  const { mesh } = await mergePasses(together, {}, ctx)
  lap('merged')
  const nominal: Item<Mesh> = { name: 'truth', data: part, pose: identity() }
  const fit = await bestFitOperation.run(
    { measured: [{ name: 'merged', data: mesh, pose: truly[0] }], nominal: [nominal] },
    bestFitOperation.params.parse({ byShape: false }),
    ctx,
  )
  const measured = fit.outputs['measured'][0] as Item<Mesh>
  const laid = transformMesh(mesh, measured.pose)
  const d = (await deviationTo(part, laid.vertices, Infinity, ctx)).values.map(Math.abs)
  const rms = Math.sqrt(d.reduce((s, v) => s + v * v, 0) / d.length)
  add(
    `the bracket from nothing with Alder and markers, three setups, merged, ${when}: rms to the part / 95 % (${laps.join(', ')} s)`,
    `${rms.toFixed(4)} / ${quantile(d, 0.95).toFixed(4)} mm`,
    '0.03 mm',
    '0.015',
  )
  const beside = boresBeside(bores(laid.vertices), NOMINAL_BORES)
  add(`its bores, ${when}: worst diameter / worst distance of centres`, `${beside.diameter.toFixed(4)} / ${beside.apart.toFixed(4)} mm`, '0.03 mm', '0.01')
  const lineage = { scanner: scannerUncertainty(distance), frames, alignment: joint.passes.map((p) => p.pose), placing: fit.evidence.poses?.[0] ?? 'unknown' }
  const flags = await flagged(measured, nominal, lineage, ctx)
  add(
    `one flag on each of its ${flags.length} covered faces, ${when}: off by no more than it states (k = 2) / widest stated / furthest off`,
    `${((100 * flags.filter((f) => Math.abs(f.mean) <= f.U).length) / flags.length).toFixed(0)} % / ${Math.max(...flags.map((f) => f.U)).toFixed(3)} / ${Math.max(...flags.map((f) => Math.abs(f.mean))).toFixed(3)} mm`,
    '95 %',
    '',
  )
}

/** What is measured is as it was drawn: what a flag says is its error. */
async function flagged(measured: Item<Mesh>, nominal: Item<Mesh>, lineage: object, ctx: RunContext): Promise<{ mean: number; U: number }[]> {
  const compared = await deviation.run({ measured: [measured], nominal: [nominal] }, deviation.params.parse({}), ctx)
  const field = compared.outputs['field'] as Item<Field>[]
  const flags: { mean: number; U: number }[] = []
  for (const { at, covered } of coverageOf(nominal.data, transformMesh(measured.data, measured.pose), 1).faces) {
    if (!at || covered < LEAST_COVERED) continue
    const told = await flag.run({ field, on: [measured], nominal: [nominal] }, flag.params.parse({ at, lineage }), ctx)
    const { value, u } = told.evidence.quantities[0]
    if (typeof u === 'number') flags.push({ mean: Number(value), U: COVERAGE * u })
  }
  return flags
}

function calibrated(then: Stereo): CalibrationResult {
  const plate = PLATES.find((p) => p.id === 'Q12') ?? PLATES[0]
  const poses = targetPoses(spec, then, plate).map((t) => t.pose)
  const { width, height } = spec.design.left
  return calibrateStereo({ plate, observations: rehearseObservations(then, plate, poses, 20.6, 50), width, height })
}

interface Recorded {
  points: Points
  /** from the pass to the part */
  toPart: Mat4
  placed: number
  of: number
  held: number
}

async function recorded(part: Mesh, up: Up, truth: Stereo, believed: Stereo, ctx: RunContext): Promise<Recorded> {
  const stands = upright(part, identity(), up)
  const box = boundingBox(stands.vertices)
  const planned = operation('plan-markers')
  const nominal: Item<Mesh> = { name: 'bracket', data: stands, pose: identity() }
  const plan = (await planned.run({ shape: [nominal] }, planned.params.parse({ where: 'around' }), ctx)).outputs['plan'][0] as Item<Markers>
  const stuck = turned(plan.data, plan.pose)
  const table = boxSolid(box[3] - box[0] + 240, box[4] - box[1] + 240, 10)
  const under = identity()
  ;[under[3], under[7], under[11]] = [(box[0] + box[3]) / 2, (box[1] + box[4]) / 2, box[2] - 10]
  const things: Thing[] = [
    { kind: 'mesh', mesh: stands, bvh: buildBvh(stands, 'median'), pose: identity(), material: MATERIALS.matte },
    { kind: 'mesh', mesh: table, bvh: buildBvh(table, 'median'), pose: under, material: MATERIALS.matte },
  ]
  const back = invertRigid(bodyToLeft(truth))
  const at = (t: number) => multiply(wayRound(box, spec.range.ideal, t), back)
  const seen = (pose: Mat4, seed: number) => seeMarkers(spec, truth, believed, stuck, things, { pose, noise, seed, strays: 0.1, dropouts: 0.05 })

  const mapping = Array.from({ length: MAPPING }, (_, f) => ({ time: 60 * f, ...seen(at(f / MAPPING), 15_485_863 * (f + 1) + seed) }))
  const map = mapFrames(mapping, { stereo: believed, plan: stuck }, ctx)
  const count = Math.round(SECONDS * (spec.moving?.rate ?? 1))
  const frames = Array.from({ length: count }, (_, f): RecordedFrame => {
    const time = (1000 * SECONDS * f) / count
    const pose = at(f / count)
    const { xyz } = takeShot(spec, truth, believed, things, {
      pose,
      motion: at((f + 0.05) / count)
        .slice(0, 12)
        .map((v, i) => v - at((f - 0.05) / count)[i]),
      pattern: 'cross',
      exposure: 1,
      along: spec.moving?.along,
      phase: seeded(f + 9).next(),
      noise,
      seed: 104_003 * (f + 1) + seed,
    })
    return { time, markers: seen(pose, 32_452_843 * (f + 1) + seed), points: () => ({ xyz }) }
  })
  const { ids, covariance } = map.markers
  const low = ids.filter((_, i) => stuckAt(map.markers, map.planned?.pose, i)[2] < box[2] + 2)
  const solved = await solveRecording(
    frames,
    {
      by: 'markers',
      spacing: SPACING,
      noise: lineNoise(believed, spec.range.ideal),
      lines: false,
      markers: { map: { ...map.markers, sigma: ids.map((_, i) => worstUncertainty(covariance, i)) }, sight: stereoSight(believed) },
      floor: { of: () => floorOfMarkers(map.markers, low), raise: RAISE },
    },
    ctx,
  )
  const pairs = ids.flatMap((id, i) => (stuck.ids.includes(id) ? [[i, stuck.ids.indexOf(id)]] : []))
  const of = (m: Markers, k: 0 | 1) => pairs.flatMap((pair) => [...m.positions.subarray(3 * pair[k], 3 * pair[k] + 3)])
  // the map's axes lie where its markers truly stick
  const standsAt = fitRigid(of(map.markers, 0), of(stuck, 1)).pose
  return {
    points: solved.points,
    toPart: multiply(invertRigid(uprightPose(up)), standsAt),
    placed: solved.placed.length,
    of: count,
    held: solved.sigma.median,
  }
}

const stuckAt = (m: Markers, pose: Mat4 | undefined, i: number) =>
  transformPoint(pose ?? identity(), m.positions[3 * i], m.positions[3 * i + 1], m.positions[3 * i + 2])
