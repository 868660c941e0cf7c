import { existsSync, mkdirSync, readFileSync, writeFileSync } from 'node:fs'
import { join } from 'node:path'
import { f32 } from '@oak-gauge/core/base/arrays.ts'
import type { RunContext } from '@oak-gauge/core/base/run.ts'
import { ZOO, type ZooPart } from '@oak-gauge/demo/zoo/parts.ts'
import { tryOut, type Outcome } from '@oak-gauge/demo/zoo/tryout.ts'
import { zooPasses, zooScene, type ZooScene } from '@oak-gauge/demo/zoo/record.ts'

/** Recordings are kept in .data/bench/zoo: casting the rays takes longer than all that is measured. */
export async function keptScene(part: ZooPart, spacing: number, ctx: RunContext): Promise<ZooScene> {
  const folder = join(process.cwd(), '.data', 'bench', 'zoo', `${part.name.replaceAll(' ', '-')}-${spacing}`)
  const list = join(folder, 'views.json')
  if (existsSync(list)) {
    const { unit, views } = JSON.parse(readFileSync(list, 'utf8')) as { unit: number; views: Omit<ZooScene['views'][number], 'exact'>[] }
    return {
      part,
      mesh: await part.mesh(),
      unit,
      views: views.map((v, i) => {
        const b = readFileSync(join(folder, `${i}`))
        const exact = f32(b.length / 4)
        new Uint8Array(exact.buffer).set(b)
        return { ...v, exact }
      }),
    }
  }
  const scene = await zooScene(part, spacing, ctx)
  mkdirSync(folder, { recursive: true })
  scene.views.forEach((v, i) => writeFileSync(join(folder, `${i}`), v.exact))
  writeFileSync(list, JSON.stringify({ unit: scene.unit, views: scene.views.map(({ setup, eye, target }) => ({ setup, eye, target })) }))
  return scene
}

/** `npm run bench -- zoo part=lever,pot spacing=0.4 seeds=1 noise=independent shape=no mesh=yes` */
export async function benchZoo(args: string[], ctx: RunContext, print: (line: string) => void): Promise<Outcome[]> {
  const option = (name: string, all: string[]) =>
    args
      .find((a) => a.startsWith(`${name}=`))
      ?.slice(name.length + 1)
      .split(',') ?? all
  const parts = option(
    'part',
    ZOO.map((p) => p.name),
  )
  const outcomes: Outcome[] = []
  for (const part of ZOO.filter((p) => parts.includes(p.name)))
    for (const spacing of option('spacing', ['0.8', '0.4', '0.15']).map(Number)) {
      const scene = await keptScene(part, spacing, ctx)
      for (const noise of option('noise', ['independent', 'correlated']))
        for (let seed = 1; seed <= Number(option('seeds', ['3'])[0]); seed++) {
          const passes = zooPasses(scene, { sigma: Number(option('sigma', ['0.03'])[0]), correlated: noise === 'correlated', seed, tracking: 0.08 })
          const o = await tryOut(scene, passes, { shape: option('shape', ['yes'])[0] === 'yes', mesh: option('mesh', ['no'])[0] === 'yes' }, ctx)
          const line = { ...o, part: part.name, spacing, noise, seed }
          outcomes.push(line)
          print(
            `${part.name.padEnd(12)} ${spacing} ${noise.slice(0, 5)} ${seed}  shape ${o.shape.padEnd(8)} share ${(100 * o.shared).toFixed(0)} %  ${o.verdict.padEnd(20)} worst ${o.worst.toFixed(4)} stated ${o.stated.toFixed(4)} ratio ${o.ratio.toFixed(2)} norm ${o.normalised.map((v) => v.toFixed(1)).join(' ')} ${o.free || o.named.length ? `free ${o.free}: ${o.named.join('; ')}` : ''} ${o.seconds.map((s) => s.toFixed(1)).join('/')} s ${o.mesh ? `mesh rms ${o.mesh.rms.toFixed(4)} 95 % ${o.mesh.within95.toFixed(4)} covered ${(100 * o.mesh.covered).toFixed(2)} % ` : ''}${o.note}`,
          )
        }
    }
  return outcomes
}
