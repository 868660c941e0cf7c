import { readFileSync } from 'node:fs'
import { fileURLToPath } from 'node:url'
import { Worker } from 'node:worker_threads'
import { seeded } from '@oak-gauge/core/base/random.ts'
import { f32, u32, u8 } from '@oak-gauge/core/base/arrays.ts'
import { writeAny } from '@oak-gauge/core/formats/index.ts'
import { makeMesh } from '@oak-gauge/core/shape/mesh.ts'
import { makePoints } from '@oak-gauge/core/shape/points.ts'
import type { Answer } from './brokenreader.ts'

const EACH = 1000
/** A process of its own each: 0.8 s */
const STEP = 200
const text = (s: string) => new TextEncoder().encode(s)

/** A whole file of every kind that is read. */
function wholeFiles(): [string, Uint8Array][] {
  const n = 24
  const vertices = f32(3 * n * n).map((_, i) => [Math.floor(i / 3) % n, Math.floor(i / 3 / n), Math.sin(i / 50)][i % 3] * 2.5)
  const triangles = u32(6 * (n - 1) * (n - 1)).map((_, i) => {
    const [cell, k] = [Math.floor(i / 6), i % 6]
    const a = Math.floor(cell / (n - 1)) * n + (cell % (n - 1))
    return a + [0, 1, n, 1, n + 1, n][k]
  })
  const mesh = makeMesh({ vertices, triangles, colours: u8(3 * n * n).fill(90) })
  const points = makePoints({ xyz: vertices, normals: vertices.map((_, i) => (i % 3 === 2 ? 1 : 0)), viewpoint: [0, 0, 400] })
  const joined = (parts: Iterable<Uint8Array>) => Uint8Array.from([...parts].flatMap((p) => [...p]))
  const facets = Array.from({ length: triangles.length / 3 }, (_, t) => {
    const corner = (k: number) => [0, 1, 2].map((c) => vertices[3 * triangles[3 * t + k] + c]).join(' ')
    return `facet normal 0 0 1\nouter loop\nvertex ${corner(0)}\nvertex ${corner(1)}\nvertex ${corner(2)}\nendloop\nendfacet\n`
  })
  const rows = Array.from({ length: n * n }, (_, i) => vertices.subarray(3 * i, 3 * i + 3).join(' '))
  const markers = Array.from({ length: 40 }, (_, i) => `M${i},${(i % 7) * 40},${Math.floor(i / 7) * 45},${i % 3},6,0.01`).join('\n')
  const recording = JSON.stringify({
    format: 'oak-gauge marker frames',
    version: 1,
    frames: [0, 1, 2].map((t) => ({ time: 50 * t, markers: [1, 2, 3, 6, 40, 2, 3, 6, 1, 50, 3, 6, 60, 60, 3, 6] })),
  })
  return [
    ['binary.stl', joined(writeAny('stl', mesh, 'x'))],
    ['ascii.stl', text(`solid x\n${facets.join('')}endsolid x\n`)],
    ['mesh.ply', joined(writeAny('ply', mesh, 'x'))],
    ['points.ply', joined(writeAny('ply', points, 'x'))],
    [
      'ascii.ply',
      text(`ply\nformat ascii 1.0\nelement vertex ${n * n}\nproperty float x\nproperty float y\nproperty float z\nend_header\n${rows.join('\n')}\n`),
    ],
    ['mesh.obj', joined(writeAny('obj', mesh, 'x'))],
    ['points.xyz', joined(writeAny('xyz', points, 'x'))],
    ['mesh.3mf', joined(writeAny('3mf', mesh, 'x'))],
    ['part.step', new Uint8Array(readFileSync(`${process.cwd()}/core/test/fixtures/cad/cube-mm.step`))],
    ['list.markers', text(`id,x_mm,y_mm,z_mm,diameter_mm,uncertainty_mm\n${markers}\n`)],
    ['frames.recording', text(recording)],
  ]
}

/** One of the ways in which files break: cut off, bytes of the head or of the body changed, a piece twice or gone. */
function broken(whole: Uint8Array, k: number, seed: number): Uint8Array {
  const r = seeded(seed)
  const a = r.below(whole.length)
  const b = Math.min(whole.length, a + 1 + r.below(2000))
  if (k % 5 === 0) return whole.slice(0, a)
  if (k % 5 === 1) return Uint8Array.from([...whole.subarray(0, b), ...whole.subarray(a)])
  if (k % 5 === 2) return Uint8Array.from([...whole.subarray(0, a), ...whole.subarray(b)])
  const bytes = whole.slice()
  const reach = k % 5 === 3 ? Math.min(400, bytes.length) : bytes.length
  for (let i = 0; i < 1 + r.below(5); i++) bytes[r.below(reach)] = r.below(256)
  return bytes
}

/** `npm run bench -- broken`: 10 000 and more damaged files over all readers. Counts what was neither read nor refused in words, took over ten seconds, or over a gigabyte. */
export async function benchBroken(add: (what: string, got: string, must: string, aim: string) => void, print: (line: string) => void): Promise<void> {
  const file = fileURLToPath(new URL('./brokenreader.js', import.meta.url))
  let worker: Worker | undefined
  const [crashed, hung, heavy]: string[][] = [[], [], []]
  let slowest = 0
  let total = 0
  for (const [name, whole] of wholeFiles()) {
    const count = { read: 0, refused: 0, crashed: 0 }
    for (let k = 0; k < (name.endsWith('.step') ? STEP : EACH); k++, total++) {
      worker ??= new Worker(file)
      const w = worker
      const before = process.memoryUsage().rss
      const start = performance.now()
      w.postMessage({ name, bytes: broken(whole, k, 1000 * k + name.length) })
      const answer = await new Promise<Answer | 'hung' | 'dead'>((resolve) => {
        const timer = setTimeout(() => resolve('hung'), 12_000)
        const done = (a: Answer | 'dead') => {
          clearTimeout(timer)
          resolve(a)
        }
        w.removeAllListeners()
        w.once('message', done)
        w.once('error', () => done('dead'))
        w.once('exit', () => done('dead'))
      })
      slowest = Math.max(slowest, performance.now() - start)
      const which = `${name} ${k}`
      if (answer === 'hung' || answer === 'dead') {
        ;(answer === 'hung' ? hung : crashed).push(which)
        await w.terminate()
        worker = undefined
        continue
      }
      count[answer.how]++
      if (answer.how === 'crashed') {
        crashed.push(which)
        print(`${which}: ${answer.what.slice(0, 400)}`)
      }
      if (answer.what === 'cad-time') hung.push(which)
      if (answer.what === 'cad-memory' || answer.rss - before > 2 ** 30) heavy.push(which)
    }
    print(`${name.padEnd(18)} read ${count.read}, refused ${count.refused}, crashed ${count.crashed}`)
  }
  await worker?.terminate()
  add(
    `${total} damaged files over all readers: crashed / hung over 10 s / over 1 GB`,
    `${crashed.length} / ${hung.length} / ${heavy.length}; slowest ${(slowest / 1000).toFixed(2)} s`,
    '0 / 0 / 0',
    '',
  )
  for (const [what, list] of [
    ['crashed', crashed],
    ['hung', hung],
    ['heavy', heavy],
  ] as const)
    if (list.length) print(`${what}: ${list.slice(0, 20).join(', ')}`)
}
