import { f32 } from '@oak-gauge/core/base/arrays.ts'
import { identity } from '@oak-gauge/core/base/mat4.ts'
import { seeded } from '@oak-gauge/core/base/random.ts'
import type { RunContext } from '@oak-gauge/core/base/run.ts'
import { runOperation } from '@oak-gauge/core/operations/registry.ts'
import { makePoints, type Points } from '@oak-gauge/core/shape/points.ts'
import type { Item } from '@oak-gauge/core/operations/operation.ts'

/** mm */
const PITCH = 0.3

/** Passes of a wavy field seen from above, each a fifth further on than the last, so that five of them lie on one another. */
function field(passes: number, points: number): Item<Points>[] {
  const random = seeded(17)
  const rows = Math.floor(Math.sqrt(points))
  const side = PITCH * rows
  return Array.from({ length: passes }, (_, k) => {
    const from = 0.2 * side * k
    const xyz = f32(3 * rows * rows)
    for (let i = 0; i < xyz.length; i += 3) {
      // row by row, as scanners record
      const x = from + PITCH * ((i / 3) % rows) + 0.1 * random.next()
      const y = PITCH * Math.floor(i / 3 / rows) + 0.1 * random.next()
      xyz[i] = x
      xyz[i + 1] = y
      xyz[i + 2] = 8 * Math.sin(x / 37) * Math.cos(y / 29) + 0.02 * (random.next() + random.next() - 1)
    }
    return { name: `pass ${k + 1}`, pose: identity(), data: makePoints({ xyz, viewpoint: [from + side / 2, side / 2, 1500] }) }
  })
}

/** `npm run bench -- large passes=20 points=5000000 steps=strays,normals,merge`: time and memory for many points; without words four passes of 2.5 million. */
export async function benchLarge(
  args: string[],
  ctx: RunContext,
  timed: <T>(run: () => Promise<T>) => Promise<{ result: T; seconds: number; megabytes: number }>,
  print: (line: string) => void,
): Promise<void> {
  const option = (name: string, usual: string) => args.find((a) => a.startsWith(`${name}=`))?.slice(name.length + 1) ?? usual
  const [passes, points] = [Number(option('passes', '4')), Number(option('points', '2500000'))]
  const items = field(passes, points)
  const total = `${((passes * points) / 1e6).toFixed(0)} million points in ${passes} passes`
  for (const step of option('steps', 'strays,normals,merge').split(',')) {
    const { result, seconds, megabytes } = await timed(() => runOperation(step, { passes: items }, {}, ctx))
    const first = result.evidence.quantities[0]
    print(
      `${step}, ${total}: ${seconds.toFixed(0)} s, ${(megabytes / 1024).toFixed(1)} GB at the peak, the points themselves included (${first.id} ${first.value})`,
    )
  }
}
