import { existsSync, mkdirSync, readFileSync, writeFileSync } from 'node:fs'
import { join } from 'node:path'
import { f32 } from '@oak-gauge/core/base/arrays.ts'
import { identity } from '@oak-gauge/core/base/mat4.ts'
import { seeded } from '@oak-gauge/core/base/random.ts'
import type { RunContext } from '@oak-gauge/core/base/run.ts'
import { makeMesh, type Mesh } from '@oak-gauge/core/shape/mesh.ts'
import { tessellate } from '@oak-gauge/demo/cad.ts'
import { bracket, NOMINAL_BRACKET } from '@oak-gauge/demo/parts/bracket.ts'
import { benchViews, record, smallPose, type Recorded } from '@oak-gauge/demo/passes.ts'

/** Where what is made once for the benchmark is kept. */
export const CACHE = join(process.cwd(), '.data', 'bench')

/** The bracket from eight sides, 250 000 points each, and its true surface: made once, kept. */
export async function eightPasses(ctx: RunContext): Promise<{ truth: Mesh; passes: Recorded[] }> {
  const read = (f: string) => {
    const b = readFileSync(join(CACHE, f))
    const a = f32(b.length / 4)
    new Uint8Array(a.buffer).set(b)
    return a
  }
  if (!existsSync(join(CACHE, 'done'))) {
    process.stderr.write('making the eight passes (kept in .data/bench) …\n')
    mkdirSync(CACHE, { recursive: true })
    const truth = tessellate(await bracket(NOMINAL_BRACKET), 0.001, 4)
    const random = seeded(5)
    const views = benchViews()
    const poses = views.map((_, i) => (i === 0 ? identity() : smallPose(random, 0.6, 1.0, [0, 0, 25])))
    const passes = await record(truth, views, poses, ctx)
    writeFileSync(join(CACHE, 'v'), truth.vertices)
    writeFileSync(join(CACHE, 't'), truth.triangles)
    passes.forEach((p, i) => {
      writeFileSync(join(CACHE, `p${i}`), p.points.xyz)
      writeFileSync(join(CACHE, `x${i}`), p.truth)
      writeFileSync(join(CACHE, `m${i}`), JSON.stringify({ pose: [...p.truePose], viewpoint: p.points.viewpoint }))
    })
    writeFileSync(join(CACHE, 'done'), '1')
  }
  const truth = makeMesh({ vertices: read('v'), triangles: new Uint32Array(read('t').buffer) })
  const passes = Array.from({ length: 8 }, (_, i): Recorded => {
    const m = JSON.parse(readFileSync(join(CACHE, `m${i}`), 'utf8')) as { pose: number[]; viewpoint: [number, number, number] }
    return { points: { kind: 'points', xyz: read(`p${i}`), viewpoint: m.viewpoint }, truth: read(`x${i}`), truePose: Float64Array.from(m.pose) }
  })
  return { truth, passes }
}
