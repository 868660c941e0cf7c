import type { RunContext } from '@oak-gauge/core/base/run.ts'
import type { LiveOptions } from '@oak-gauge/core/capture/livetracker.ts'
import { solveRecording } from '@oak-gauge/core/capture/solverecording.ts'
import { lineLength, wayOver } from '@oak-gauge/core/capture/wayover.ts'
import type { RecordedFrame } from '@oak-gauge/core/formats/recording.ts'
import { lineNoise } from '@oak-gauge/core/scanner/linenoise.ts'
import { trueOptics } from '@oak-gauge/core/scanner/optics.ts'
import type { Mesh } from '@oak-gauge/core/shape/mesh.ts'
import { boundingBox } from '@oak-gauge/core/shape/points.ts'
import { buildTriangleSearch, closestOnTriangle, closestTriangles, newClosest } from '@oak-gauge/core/space/closest.ts'
import { cad, tessellate } from '@oak-gauge/demo/cad.ts'
import { bracket, NOMINAL_BRACKET } from '@oak-gauge/demo/parts/bracket.ts'
import { DEVICES } from '@oak-gauge/scanners/devices.ts'
import { StandIn, type SendFrame } from '@oak-gauge/scanners/standin.ts'

type Add = (what: string, got: string, must: string, aim: string) => void

const DAYS = 100
/** ms between two frames, and mm a second at which a line is led */
const EVERY = 60
const PACE = 25
const SHOTS = 8
const SPACING = 1

/** Scanners that know where they are: the bracket on Hazel's table, and under the line of Rowan's arm; calibrated just then. */
export async function benchStands(add: Add, ctx: RunContext): Promise<void> {
  await cad()
  const part = tessellate(await bracket(NOMINAL_BRACKET), 0.02, 8)
  for (const name of ['hazel', 'rowan']) {
    const device = DEVICES[name]
    const { spec } = device
    const stereo = trueOptics(spec.design, device.seed, { celsius: 20.6 + device.rise, days: DAYS, drops: 0 })
    const frames = record(name, part, stereo)
    const lines = spec.kind === 'arm-line'
    const noise = lineNoise(stereo, spec.range.ideal)
    for (const by of lines ? (['own'] as const) : (['own', 'both'] as const)) {
      const began = performance.now()
      const options: LiveOptions & { by: typeof by } = { by, lines, noise, spacing: SPACING, ...(spec.own ? { own: spec.own } : {}) }
      const solved = await solveRecording(frames, options, ctx)
      const took = (performance.now() - began) / 1000
      add(
        `${device.name}, ${frames.length} ${lines ? 'lines' : 'shots'} of the bracket, held by its own word${by === 'both' ? ' and shape' : ''}: placed / rms to the part / held within, stated / time`,
        `${solved.placed.length} / ${offPart(part, solved.points.xyz).toFixed(4)} mm / ${solved.sigma.median.toFixed(4)} mm / ${took.toFixed(1)} s`,
        '',
        '',
      )
    }
  }
}

function record(name: string, part: Mesh, stereo: ReturnType<typeof trueOptics>): RecordedFrame[] {
  const { spec } = DEVICES[name]
  let now = 3_600_000
  const device = new StandIn(
    DEVICES[name],
    { drops: 0, made: Date.now() - DAYS * 86_400_000, calibration: { id: 'now', stereo } },
    { factor: 1, now: () => now },
  )
  const frames: RecordedFrame[] = []
  const send: SendFrame = (head, [xyz]) => {
    if (head.kind !== 'points' || !head.pose) return
    const points = { xyz: xyz as Float32Array }
    frames.push({
      time: head.time,
      markers: { xyz: new Float32Array(0), diameters: new Float32Array(0) },
      points: () => points,
      at: Float64Array.from(head.pose),
    })
  }
  const { vertices, triangles } = part
  device.obey({ type: 'bench', id: 0, things: [{ kind: 'solid', vertices: Array.from(vertices), triangles: Array.from(triangles), material: 'matte' }] }, send)
  if (spec.turntable)
    for (let k = 0; k < SHOTS; k++) {
      now += 1000
      device.obey({ type: 'turn', id: 0, degrees: (360 * k) / SHOTS }, send)
      device.obey({ type: 'shot', id: 0, frames: 1 }, send)
    }
  else {
    const way = wayOver(boundingBox(vertices), spec.range, lineLength(spec.design.left, spec.range.ideal))
    const n = Math.round((1000 * way.length) / PACE / EVERY)
    device.obey({ type: 'mode', id: 0, mode: 'record' }, send)
    for (let k = 0; k <= n; k++) {
      now += EVERY
      device.obey({ type: 'hand', id: 0, pose: Array.from(way.at(k / n)) }, send)
      device.record(send)
    }
  }
  return frames
}

/** rms distance of points to a part, mm */
function offPart(part: Mesh, xyz: Float32Array): number {
  const search = buildTriangleSearch(part)
  const n = xyz.length / 3
  const hits = closestTriangles(
    search,
    xyz,
    Uint32Array.from({ length: n }, (_, i) => i),
    0,
    n,
    3,
  )
  const best = newClosest()
  let squares = 0
  for (let i = 0; i < n; i++) {
    best.d2 = hits[i] < 0 ? 9 : Infinity
    if (hits[i] >= 0) closestOnTriangle(search.corners, hits[i], xyz[3 * i], xyz[3 * i + 1], xyz[3 * i + 2], best)
    squares += best.d2
  }
  return Math.sqrt(squares / n)
}
