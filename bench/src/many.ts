import type { RunContext } from '@oak-gauge/core/base/run.ts'
import { identity, multiply, poseDifference } from '@oak-gauge/core/base/mat4.ts'
import { seeded } from '@oak-gauge/core/base/random.ts'
import { adjustJointly } from '@oak-gauge/core/align/joint.ts'
import { boundingBox, type Placed, type Points } from '@oak-gauge/core/shape/points.ts'
import type { Mesh } from '@oak-gauge/core/shape/mesh.ts'
import { bracketView, record, smallPose } from '@oak-gauge/demo/passes.ts'
import type { RangeView } from '@oak-gauge/core/scanner/rangeview.ts'

const PASSES = 200
const POINTS = 20_000

/** Two hundred looks at the bracket from all around, in four setups, and none of them quite where it was recorded. */
function views(): RangeView[] {
  return Array.from({ length: PASSES }, (_, i) => {
    const setup = Math.floor((4 * i) / PASSES)
    const k = i % (PASSES / 4)
    return bracketView(k * 137.5, (setup % 2 ? -1 : 1) * (15 + ((k * 23) % 50)), 300 + i, 0.75, POINTS)
  })
}

/** `npm run bench -- many`: 200 passes of 20 000 points adjusted at once, with the setups known. */
export async function benchMany(
  truth: Mesh,
  ctx: RunContext,
  timed: <T>(run: () => Promise<T>) => Promise<{ result: T; seconds: number; megabytes: number }>,
  add: (what: string, got: string, must: string, aim: string) => void,
): Promise<void> {
  const random = seeded(71)
  const own = Array.from({ length: PASSES }, () => identity())
  const passes = await record(truth, views(), own, ctx)
  const placed = passes.map((p, i): Placed<Points> => ({
    name: `pass ${i + 1}`,
    data: p.points,
    pose: i === 0 ? p.truePose : multiply(smallPose(random, 0.05, 0.1, [0, 0, 25]), p.truePose),
    setup: `${Math.floor((4 * i) / PASSES)}`,
  }))
  const setups = passes.map((_, i) => Math.floor((4 * i) / PASSES))
  const r = await timed(() => adjustJointly(placed, { setups }, ctx))
  let worst = 0
  let ratio = 0
  passes.forEach((p, i) => {
    if (i === 0) return
    const off = poseDifference(p.truePose, r.result.poses[i], boundingBox(p.points.xyz)).rms
    worst = Math.max(worst, off)
    ratio = Math.max(ratio, off / r.result.passes[i].sigma)
  })
  add(
    `joint adjustment, ${PASSES} passes of ${(passes.reduce((s, p) => s + p.points.xyz.length / 3, 0) / PASSES / 1000).toFixed(0)} k points`,
    `${r.seconds.toFixed(1)} s, ${r.megabytes.toFixed(0)} MB, worst pass ${worst.toFixed(4)} mm, ${ratio.toFixed(2)} times what is stated`,
    '60 s',
    '20 s',
  )
}
