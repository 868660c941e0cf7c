import { identity, invertRigid, multiply, type Mat4 } from '@oak-gauge/core/base/mat4.ts'
import { seeded } from '@oak-gauge/core/base/random.ts'
import type { RunContext } from '@oak-gauge/core/base/run.ts'
import { quantile } from '@oak-gauge/core/base/stats.ts'
import { solveRecording } from '@oak-gauge/core/capture/solverecording.ts'
import { wayRound } from '@oak-gauge/core/capture/wayround.ts'
import type { RecordedFrame } from '@oak-gauge/core/formats/recording.ts'
import type { Markers } from '@oak-gauge/core/markers/markers.ts'
import { stereoSight } from '@oak-gauge/core/markers/sight.ts'
import { inspectPass, LEAST_COVERED } from '@oak-gauge/core/operations/inspect-pass.ts'
import type { FaceForetold, Item } from '@oak-gauge/core/operations/operation.ts'
import { operation } from '@oak-gauge/core/operations/registry.ts'
import { rehearseRecordingOperation } from '@oak-gauge/core/operations/rehearse-recording.ts'
import { trueOptics } from '@oak-gauge/core/scanner/optics.ts'
import { lineNoise } from '@oak-gauge/core/scanner/linenoise.ts'
import { MATERIALS, type Thing } from '@oak-gauge/core/scanner/scene.ts'
import { seeMarkers } from '@oak-gauge/core/scanner/seemarkers.ts'
import { takeShot } from '@oak-gauge/core/scanner/shot.ts'
import { bodyToLeft } from '@oak-gauge/core/scanner/spec.ts'
import type { Mesh } from '@oak-gauge/core/shape/mesh.ts'
import { boundingBox } from '@oak-gauge/core/shape/points.ts'
import { buildBvh } from '@oak-gauge/core/space/bvh.ts'
import { cad, tessellate } from '@oak-gauge/demo/cad.ts'
import { bracket, NOMINAL_BRACKET } from '@oak-gauge/demo/parts/bracket.ts'
import { DEVICES } from '@oak-gauge/scanners/devices.ts'

type Add = (what: string, got: string, must: string, aim: string) => void

const SECONDS = 40
const SPACING = 1
const LIMIT = 0.1
const DISTANCE = { error: 0.02, U: 0.01 }
/** of a map, mm */
const MAPPED = 0.005

/** What a rehearsal foretells of the bracket, against a whole recording of it: every frame, by optics as they really are, tracked by nothing but the frames. */
export async function benchRehearsal(add: Add, ctx: RunContext): Promise<void> {
  await cad()
  const part = tessellate(await bracket(NOMINAL_BRACKET), 0.02, 8)
  for (const [device, by] of [
    ['alder', 'markers'],
    ['birch', 'shape'],
  ] as const) {
    const { spec, noise, seed, name } = DEVICES[device]
    const nominal: Item<Mesh> = { name: 'bracket', data: part, pose: identity() }
    const inputs: Record<string, Item[]> = { shape: [nominal] }
    const planned = operation('plan-markers')
    if (by === 'markers') inputs['plan'] = (await planned.run(inputs, planned.params.parse({ where: 'around' }), ctx)).outputs['plan']
    const scanner = { optics: spec.design, range: spec.range, pattern: device === 'alder' ? 'cross' : 'area', ...spec.moving, distance: DISTANCE }
    let began = performance.now()
    const params = rehearseRecordingOperation.params.parse({ by, spacing: SPACING, seconds: SECONDS, limit: LIMIT, scanner })
    const { evidence } = await rehearseRecordingOperation.run(inputs, params, ctx)
    add(`rehearsal of the bracket with ${name}, by ${by}`, `${((performance.now() - began) / 1000).toFixed(1)} s`, '60 s', '15 s')

    began = performance.now()
    const optics = trueOptics(spec.design, seed, { celsius: 28, days: 3, drops: 0 })
    const thing: Thing = { kind: 'mesh', mesh: part, bvh: buildBvh(part, 'median'), pose: identity(), material: MATERIALS.matte }
    const stuck = (inputs['plan']?.[0] as Item<Markers> | undefined)?.data
    const back = invertRigid(bodyToLeft(optics))
    const truth = new Map<number, Mat4>()
    const count = Math.round(SECONDS * (spec.moving?.rate ?? 1))
    const frames = Array.from({ length: count }, (_, f): RecordedFrame => {
      const time = (1000 * SECONDS * f) / count
      const pose = multiply(wayRound(boundingBox(part.vertices), spec.range.ideal, f / count), back)
      truth.set(time, pose)
      const { xyz } = takeShot(spec, optics, optics, [thing], {
        pose,
        pattern: device === 'alder' ? 'cross' : 'area',
        exposure: 1,
        stride: spec.moving?.stride,
        along: spec.moving?.along,
        phase: seeded(f + 9).next(),
        noise,
        seed: 104_003 * (f + 1) + seed,
      })
      const none = { xyz: new Float32Array(0), diameters: new Float32Array(0) }
      const markers = stuck ? seeMarkers(spec, optics, optics, stuck, [thing], { pose, noise, seed: 15_485_863 * (f + 1) + seed }) : none
      return { time, markers, points: () => ({ xyz }) }
    })
    const r = seeded(5)
    const map = stuck && {
      ...stuck,
      positions: Float64Array.from(stuck.positions, (v) => v + MAPPED * r.gauss()),
      sigma: Array.from(stuck.diameters, () => MAPPED),
    }
    const solved = await solveRecording(
      frames,
      {
        by,
        spacing: SPACING,
        noise: lineNoise(optics, spec.range.ideal),
        ...(map ? { markers: { map, sight: stereoSight(optics) } } : {}),
      },
      ctx,
    )
    const { time, pose } = solved.placed[solved.placed.length >> 1]
    const real = await inspectPass(
      solved.points,
      by === 'shape' ? multiply(truth.get(time) ?? identity(), invertRigid(pose)) : identity(),
      part,
      { limit: LIMIT, spacing: SPACING, distance: DISTANCE },
      ctx,
    )
    const covered = Number(evidence.quantities.find((q) => q.id === 'covered')?.value)
    add(
      `the same, against all ${count} frames recorded, solved and inspected (${((performance.now() - began) / 1000).toFixed(0)} s): covered, foretold / real`,
      `${covered.toFixed(1)} / ${(100 * real.coverage.covered).toFixed(1)} %`,
      'within 5 points',
      '2',
    )
    const ratios = facesOf(evidence.faces ?? [], real.faces).sort((a, b) => a - b)
    add(
      `the same: U of ${ratios.length} faces, foretold / real: median, least, largest, faces within a factor of 1.5`,
      `${quantile(ratios, 0.5).toFixed(2)}, ${ratios[0]?.toFixed(2)}, ${ratios.at(-1)?.toFixed(2)}, ${ratios.filter((x) => x < 1.5 && x > 1 / 1.5).length}`,
      'within 1.5',
      '1.2',
    )
    add(
      'the same: frames not placed, foretold / real',
      `${String(evidence.quantities.find((q) => q.id === 'frames-not-placed')?.value)} / ${count - solved.placed.length}`,
      '',
      '',
    )
  }
}

function facesOf(foretold: FaceForetold[], real: FaceForetold[]): number[] {
  return foretold.flatMap((f) => {
    const r = real.find((x) => x.face === f.face)
    return r && f.covered >= LEAST_COVERED && r.covered >= LEAST_COVERED && typeof f.u === 'number' && typeof r.u === 'number' ? [f.u / r.u] : []
  })
}
