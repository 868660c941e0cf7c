import { cpus, totalmem } from 'node:os'
import { letCollect, threadPool } from '@oak-gauge/threads'
import { f32 } from '@oak-gauge/core/base/arrays.ts'
import type { RunContext } from '@oak-gauge/core/base/run.ts'
import { fromQuaternion, identity, multiply, poseDifference, transformPoint } from '@oak-gauge/core/base/mat4.ts'
import { randomQuaternion, seeded } from '@oak-gauge/core/base/random.ts'
import { quantile } from '@oak-gauge/core/base/stats.ts'
import { alignByShape } from '@oak-gauge/core/align/coarse.ts'
import { alignFine } from '@oak-gauge/core/align/fine.ts'
import { fitRigid } from '@oak-gauge/core/align/pairs.ts'
import { adjustJointly } from '@oak-gauge/core/align/joint.ts'
import { readAny } from '@oak-gauge/core/formats/index.ts'
import { bytesSource } from '@oak-gauge/core/formats/source.ts'
import { writePly } from '@oak-gauge/core/formats/ply.ts'
import { deviationTo } from '@oak-gauge/core/inspect/deviation.ts'
import { meshFacts } from '@oak-gauge/core/measure/facts.ts'
import { mergePasses } from '@oak-gauge/core/merge/merge.ts'
import { reduceMesh } from '@oak-gauge/core/repair/reduce.ts'
import { estimateNormals } from '@oak-gauge/core/shape/normals.ts'
import { boundingBox, type Placed, type Points } from '@oak-gauge/core/shape/points.ts'
import { sampleMesh } from '@oak-gauge/core/shape/sample.ts'
import { prepareSignedDistance } from '@oak-gauge/core/space/signed.ts'
import { smallPose } from '@oak-gauge/demo/passes.ts'
import { benchBroken } from './broken.ts'
import { benchCad } from './cad.ts'
import { openInBrowser, orbitInBrowser } from './browser.ts'
import { benchCalibration } from './calibrate.ts'
import { benchCapture } from './capture.ts'
import { benchFaults } from './faults.ts'
import { CACHE, eightPasses } from './eightpasses.ts'
import { benchLarge } from './large.ts'
import { benchLoad } from './load.ts'
import { benchMany } from './many.ts'
import { benchMarkers } from './markers.ts'
import { benchPrinted } from './printed.ts'
import { benchRecorded } from './recorded.ts'
import { benchRehearsal } from './rehearse.ts'
import { benchServer } from './server.ts'
import { benchStands } from './stands.ts'
import { timed } from './timed.ts'
import { benchTorture } from './torture.ts'
import { benchVerdicts } from './verdicts.ts'
import { benchZoo, keptScene } from './zoo.ts'
import { general } from './general.ts'
import { bores, boresBeside } from './bores.ts'

interface Row {
  what: string
  got: string
  must: string
  aim: string
}

const only = process.argv.slice(2)
const wants = (name: string) => only.length === 0 || only.includes(name)

letCollect()
const pool = threadPool()
const ctx: RunContext = { progress: () => undefined, signal: { aborted: false }, parallel: pool }

const mm = (v: number, digits = 4) => `${v.toFixed(digits)} mm`
const rows: Row[] = []
const add = (what: string, got: string, must: string, aim: string) => {
  rows.push({ what, got, must, aim })
  process.stderr.write(`${what}: ${got}\n`)
}

if (wants('calibrate')) benchCalibration(add)
if (wants('markers')) benchMarkers(add)
if (wants('capture')) await benchCapture(add, ctx)
if (wants('printed')) benchPrinted(add)
if (wants('recorded')) await benchRecorded(add, ctx)
if (wants('rehearsal')) await benchRehearsal(add, ctx)
if (wants('stands')) await benchStands(add, ctx)
if (wants('verdicts')) await benchVerdicts(keptScene, ctx, add, (line) => process.stderr.write(`${line}\n`))
if (wants('cad')) await benchCad(add)
if (wants('server')) await benchServer(add)
if (only.includes('faults')) {
  await benchFaults(only, add, (line) => process.stderr.write(`${line}\n`))
  await report()
  process.exit(0)
}
if (only.includes('load')) {
  await benchLoad(only, add, (line) => process.stderr.write(`${line}\n`))
  await report()
  process.exit(0)
}
if (only.includes('torture')) {
  await benchTorture(only, add, (line) => process.stderr.write(`${line}\n`))
  await report()
  process.exit(0)
}
if (only.includes('broken')) await benchBroken(add, (line) => process.stderr.write(`${line}\n`))
if (only.includes('large')) {
  await benchLarge(only, ctx, timed, (line) => process.stdout.write(`${line}\n`))
  await pool.close()
  process.exit(0)
}
if (only.includes('zoo')) {
  // hours of it: only when asked for
  await benchZoo(only.slice(only.indexOf('zoo') + 1), ctx, (line) => process.stdout.write(`${line}\n`))
  await pool.close()
  process.exit(0)
}
if (
  only.length &&
  only.every((p) => ['cad', 'calibrate', 'markers', 'broken', 'verdicts', 'server', 'capture', 'recorded', 'rehearsal', 'stands'].includes(p))
) {
  // the passes are not needed
  await report()
  process.exit(0)
}
const { truth, passes } = await eightPasses(ctx)
const placedTrue = passes.map((p, i): Placed<Points> => ({ name: `pass ${i + 1}`, data: p.points, pose: p.truePose }))

if (wants('many')) await benchMany(truth, ctx, timed, add)
if (only.length && only.every((p) => p === 'many')) {
  await report()
  await pool.close()
  process.exit(0)
}

if (wants('align')) {
  const worst = { rms: 0, angle: 0, seconds: 0 }
  const random = seeded(9)
  for (const [a, b] of [
    [0, 1],
    [1, 2],
    [2, 3],
    [4, 5],
  ] as const) {
    const moved = multiply(smallPose(random, 2, 2, [0, 0, 25]), passes[b].truePose)
    const r = await timed(() => alignFine([placedTrue[a]], [{ ...placedTrue[b], pose: moved }], {}, ctx))
    const d = poseDifference(passes[b].truePose, multiply(r.result.move, moved), boundingBox(passes[b].points.xyz))
    worst.rms = Math.max(worst.rms, d.rms)
    worst.angle = Math.max(worst.angle, d.angleDeg)
    worst.seconds = Math.max(worst.seconds, r.seconds)
  }
  add(
    'fine alignment, worst of 4 pairs: rms / rotation / time',
    `${mm(worst.rms)} / ${worst.angle.toFixed(5)} deg / ${worst.seconds.toFixed(1)} s`,
    '0.003 mm / 0.001 deg',
    '0.0015 / 0.0005',
  )
}

if (wants('coarse')) {
  const random = seeded(3)
  let landed = 0
  const times: number[] = []
  for (let k = 0; k < 20; k++) {
    const a = k % 6
    const b = (a + 1) % 6
    const start = fromQuaternion(randomQuaternion(random), [100 * random.gauss(), 100 * random.gauss(), 100 * random.gauss()])
    const t = performance.now()
    try {
      const r = await alignByShape([placedTrue[a]], [{ ...placedTrue[b], pose: multiply(start, passes[b].truePose) }], { seed: k + 1 }, ctx)
      const d = poseDifference(passes[b].truePose, multiply(r.pose, multiply(start, passes[b].truePose)), boundingBox(passes[b].points.xyz))
      if (d.max < 3) landed++
    } catch {
      // counted as not landed
    }
    times.push((performance.now() - t) / 1000)
  }
  add(
    'coarse alignment from any pose, landed / median / longest',
    `${landed} of 20 / ${quantile(times, 0.5).toFixed(1)} s / ${Math.max(...times).toFixed(1)} s`,
    '19 of 20, 6 s each',
    '20 of 20, 2 s',
  )
}

const rough = passes.map((p, i): Placed<Points> => ({ name: `pass ${i + 1}`, data: p.points, pose: identity() }))
const joint = await timed(() => adjustJointly(rough, {}, ctx))
const off = joint.result.poses.map((p, i) => poseDifference(p, passes[i].truePose, boundingBox(passes[i].points.xyz)).rms)
add(
  'joint adjustment of 8 passes, worst pass to truth (predicted) / time / memory',
  `${mm(Math.max(...off))} (${mm(joint.result.error)}) / ${joint.seconds.toFixed(1)} s / ${joint.megabytes.toFixed(0)} MB`,
  '0.008 mm',
  '0.003 mm',
)
const adjusted = passes.map((p, i): Placed<Points> => ({ name: `pass ${i + 1}`, data: p.points, pose: joint.result.poses[i] }))

const merged = await timed(() => mergePasses(adjusted, { cell: 0.3 }, ctx))
{
  const { mesh } = merged.result
  const d = await deviationTo(truth, mesh.vertices, Infinity, ctx)
  const abs = Float32Array.from(d.values, Math.abs)
  const rms = Math.sqrt(abs.reduce((s, v) => s + v * v, 0) / abs.length)
  const over = abs.reduce((n, v) => n + (v > 0.1 ? 1 : 0), 0) / abs.length
  const all = passes.reduce((n, p) => n + p.truth.length, 0)
  const seen = f32(all)
  let o = 0
  for (const p of passes) {
    seen.set(p.truth, o)
    o += p.truth.length
  }
  const back = await deviationTo(mesh, seen, 1, ctx)
  const covered = back.values.reduce((n, v) => n + (Math.abs(v) <= 0.1 ? 1 : 0), 0) / back.values.length
  const facts = meshFacts(mesh)
  add(
    'merge at 0.3 mm, mesh to truth: rms / 95 % / over 0.1 mm',
    `${mm(rms)} / ${mm(quantile(abs, 0.95))} / ${(100 * over).toFixed(3)} %`,
    '0.015 / 0.02 mm',
    '0.008 / 0.012 mm',
  )
  add(
    'same, truth to mesh: covered within 0.1 mm / open edges / pieces / edges of more than two',
    `${(100 * covered).toFixed(2)} % / ${facts.topology.openEdges} / ${facts.topology.components} / ${facts.topology.nonManifoldEdges}`,
    '99 %',
    '',
  )
  const beside = boresBeside(bores(mesh.vertices), bores(seen))
  add(
    'bores of the merged part, worst diameter / worst distance of centres',
    `${mm(beside.diameter)} / ${mm(beside.apart)}`,
    '0.010 / 0.010 mm',
    '0.003 / 0.002 mm',
  )
  add('merge with normals: time / peak memory', `${merged.seconds.toFixed(1)} s / ${merged.megabytes.toFixed(0)} MB`, '10 s / 1.5 GB', '4 s / 0.7 GB')
}

if (wants('pipeline')) {
  const files = passes.map((p, i) => {
    const parts = [...writePly(p.points)]
    const bytes = new Uint8Array(parts.reduce((s, x) => s + x.length, 0))
    let o = 0
    for (const x of parts) {
      bytes.set(x, o)
      o += x.length
    }
    return bytesSource(`pass${i + 1}.ply`, bytes)
  })
  const phases: string[] = []
  const whole = await timed(async () => {
    let t = performance.now()
    const lap = (name: string) => {
      const now = performance.now()
      phases.push(`${name} ${((now - t) / 1000).toFixed(1)}`)
      t = now
    }
    const items: Placed<Points>[] = []
    for (const f of files) items.push({ name: f.name, data: (await readAny(f)).data as Points, pose: identity() })
    lap('load')
    for (const i of items) (i as { data: Points }).data = (await estimateNormals(i.data, {}, ctx)).points
    lap('normals')
    // setup 2, the underside, was turned right over: picked pairs, each a millimetre off, bring it back
    const upper = items.slice(0, 6)
    const away = fromQuaternion([0.3, 0.8, -0.2, 0.4], [120, -60, 200])
    const picks = [
      [-80, -30, 5],
      [80, -30, 6],
      [70, 55, 5],
      [-70, 55, 7],
      [0, -35, 20],
    ]
    const random = seeded(31)
    const fit = fitRigid(
      picks.flatMap((p) => transformPoint(away, p[0], p[1], p[2])),
      picks.flatMap((p) => p.map((v) => v + 0.6 * random.gauss())),
    )
    const under = items.slice(6).map((p) => ({ ...p, pose: multiply(fit.pose, away) }))
    const fine = await alignFine(upper, under, {}, ctx)
    lap('align')
    const start = [...upper, ...under.map((p) => ({ ...p, pose: multiply(fine.move, p.pose) }))]
    const j = await adjustJointly(start, {}, ctx)
    lap('adjust')
    const m = await mergePasses(
      start.map((p, i) => ({ ...p, pose: j.poses[i] })),
      { cell: 0.3 },
      ctx,
    )
    lap('merge')
    const r = await reduceMesh(m.mesh, { triangles: 200_000 }, ctx)
    lap('reduce')
    await deviationTo(truth, m.mesh.vertices, Infinity, ctx)
    lap('deviation')
    return { reduced: r, off: Math.max(...j.poses.map((p, i) => poseDifference(p, passes[i].truePose, boundingBox(passes[i].points.xyz)).rms)) }
  })
  add(
    'whole pipeline, 8 x 250 k points: time / memory',
    `${whole.seconds.toFixed(1)} s / ${whole.megabytes.toFixed(0)} MB (${phases.join(', ')})`,
    '36 s',
    '15 s',
  )
  add(
    'its reduction to 200 k triangles: largest / rms deviation; worst pass',
    `${mm(whole.result.reduced.maxDeviation)} / ${mm(whole.result.reduced.rmsDeviation)}; ${mm(whole.result.off)}`,
    '',
    '',
  )
}

const samples = sampleMesh(truth, 1_000_000).xyz
let distance = NaN
if (wants('deviation')) {
  const { mesh } = merged.result
  const r = await timed(() => deviationTo(prepareSignedDistance(mesh), samples, Infinity, ctx))
  distance = r.seconds
  add(`deviation of 1 M points to ${(mesh.triangles.length / 3e6).toFixed(2)} M triangles, with search structure`, `${r.seconds.toFixed(2)} s`, '3 s', '1.2 s')
}

if (wants('ratio')) {
  const theirs = general(
    CACHE,
    passes.map((p) => p.points.xyz),
    samples,
    merged.result.mesh,
  )
  if (theirs) {
    const compare = (what: string, own: number, other: number) =>
      add(`${what}: here / general-purpose library in this run`, `${own.toFixed(2)} / ${other.toFixed(2)} s = ${(own / other).toFixed(2)}`, '', '')
    const normals = await timed(async () => {
      for (const p of passes) await estimateNormals(p.points, {}, ctx)
    })
    compare('normals of 8 x 250 k points', normals.seconds, theirs.normals)
    const aligned = await timed(() => alignFine([rough[0]], [rough[1]], {}, ctx))
    compare('fine alignment of two passes (there without the normals)', aligned.seconds, theirs.align)
    if (Number.isNaN(distance)) distance = (await timed(() => deviationTo(prepareSignedDistance(merged.result.mesh), samples, Infinity, ctx))).seconds
    compare('distance of 1 M points (there unsigned)', distance, theirs.distance)
    const reduced = await timed(() => reduceMesh(merged.result.mesh, { triangles: 200_000 }, ctx))
    compare('reduction to 200 k triangles (here with its deviation measured)', reduced.seconds, theirs.reduce)
  }
}

if (wants('browser')) {
  const b = await openInBrowser()
  if (b)
    add(
      `${(b.triangles / 1e6).toFixed(1)} M triangles (${b.megabytes.toFixed(0)} MB STL): taken in / on screen after opening the job, first time / again`,
      `${b.taken.toFixed(1)} / ${b.first.toFixed(1)} / ${b.again.toFixed(1)} s`,
      '4 s on screen',
      '2 s',
    )
  const o = await orbitInBrowser()
  if (o)
    add(
      `${(o.points / 1e6).toFixed(0)} M points in five passes, without a graphics card: script for one picture while they are turned (a picture every ${o.between.toFixed(0)} ms)`,
      `${o.script.toFixed(1)} ms`,
      '8 ms',
      '4 ms',
    )
  if (o)
    add(
      `the same at rest: all ${(o.refined / 1e6).toFixed(1)} M drawn after / longest time from frame to frame meanwhile`,
      `${o.whole.toFixed(0)} s / ${o.longest.toFixed(0)} ms`,
      '',
      '',
    )
}

await report()

async function report(): Promise<void> {
  await pool.close()
  const lines = ['| what | got | must | aim |', '|---|---|---|---|', ...rows.map((r) => `| ${r.what} | ${r.got} | ${r.must} | ${r.aim} |`)]
  console.log(
    `\n${cpus().length} cores (${cpus()[0]?.model.trim() ?? ''}), ${(totalmem() / 2 ** 30).toFixed(0)} GiB, Node ${process.version}, ${new Date().toISOString().slice(0, 10)}\n\n${lines.join('\n')}`,
  )
}
