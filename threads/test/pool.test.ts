import { afterAll, beforeAll, describe, expect, test } from '@jest/globals'
import { existsSync, mkdtempSync, writeFileSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { fileURLToPath } from 'node:url'
import { Cancelled, OakError, receiveError, sendError } from '@oak-gauge/core/base/errors.ts'
import { f32 } from '@oak-gauge/core/base/arrays.ts'
import { defineKernel, quietContext } from '@oak-gauge/core/base/run.ts'
import { seeded } from '@oak-gauge/core/base/random.ts'
import { deviationTo } from '@oak-gauge/core/inspect/deviation.ts'
import { makeMesh } from '@oak-gauge/core/shape/mesh.ts'
import { estimateNormals } from '@oak-gauge/core/shape/normals.ts'
import { makePoints } from '@oak-gauge/core/shape/points.ts'
import { readPlates, solveCalibration } from '@oak-gauge/core/calibrate/kernels.ts'
import { windingKernel } from '@oak-gauge/core/space/winding.ts'
import { letCollect, threadPool, type ThreadPool } from '../src/pool.ts'

const file = fileURLToPath(new URL('../../.build/thread.js', import.meta.url))
let pool: ThreadPool
beforeAll(() => {
  if (!existsSync(file)) throw new Error('build first: npm run build')
  pool = threadPool(2, file)
})
afterAll(() => pool.close())

const tetrahedron = makeMesh({
  vertices: f32(12).map((_, i) => [0, 0, 0, 30, 0, 0, 0, 30, 0, 0, 0, 30][i]),
  triangles: new Uint32Array(new SharedArrayBuffer(48)).map((_, i) => [0, 2, 1, 0, 1, 3, 0, 3, 2, 1, 2, 3][i]),
})
const cloud = (n: number) => {
  const r = seeded(4)
  return f32(3 * n).map(() => 40 * (r.next() - 0.2))
}

describe('work on two threads', () => {
  test('gives what one thread gives, to the last bit', async () => {
    const xyz = cloud(120_000)
    const ctx = { ...quietContext, parallel: pool }
    const [one, two] = [await deviationTo(tetrahedron, xyz, Infinity, quietContext), await deviationTo(tetrahedron, xyz, Infinity, ctx)]
    expect(Buffer.from(two.values.buffer).equals(Buffer.from(one.values.buffer))).toBe(true)
    const sheet = makePoints({
      xyz: f32(90_000).map((_, i) => (i % 3 === 0 ? Math.floor(i / 3) % 173 : i % 3 === 1 ? Math.floor(i / 3 / 173) : Math.sin(i)) / 3),
    })
    const [a, b] = [await estimateNormals(sheet, {}, quietContext), await estimateNormals(sheet, {}, ctx)]
    expect(Buffer.from(b.points.normals.buffer).equals(Buffer.from(a.points.normals.buffer))).toBe(true)
  })
  test('several kernels under way at a time do not keep one another from ending', async () => {
    const xyz = cloud(60_000)
    const ctx = { ...quietContext, parallel: pool }
    const all = await Promise.all([0, 1, 2, 3].map(() => deviationTo(tetrahedron, xyz, Infinity, ctx)))
    for (const r of all.slice(1)) expect(Buffer.from(r.values.buffer).equals(Buffer.from(all[0].values.buffer))).toBe(true)
  })
  test('results come in the order of the chunks, progress rises to one', async () => {
    // the kernel writes into shared memory and returns nothing; its places tell the order
    const seen: number[] = []
    const { prepareWinding } = await import('@oak-gauge/core/space/winding.ts')
    const { buildBvh } = await import('@oak-gauge/core/space/bvh.ts')
    const xyz = cloud(4000)
    const out = f32(4000)
    const results = await pool.map(windingKernel, { ...prepareWinding(buildBvh(tetrahedron)), xyz, out }, 4000, 100, quietContext, (d) => seen.push(d))
    expect(results).toHaveLength(40)
    expect(seen).toHaveLength(40)
    expect(seen).toEqual([...seen].sort((a, b) => a - b))
    expect(seen.at(-1)).toBe(1)
    // inside of the tetrahedron one, outside nothing
    for (let i = 0; i < 4000; i++) {
      const [x, y, z] = xyz.subarray(3 * i, 3 * i + 3)
      const depth = Math.min(x, y, z, (30 - x - y - z) / Math.sqrt(3))
      if (Math.abs(depth) > 0.5) expect(Math.abs(out[i] - (depth > 0 ? 1 : 0))).toBeLessThan(0.02)
    }
  })
  test('cancelled, it ends with that word, and the threads are good for the next', async () => {
    let asked = 0
    const signal = {
      get aborted() {
        return ++asked > 3
      },
    }
    const cancelled = deviationTo(tetrahedron, cloud(400_000), Infinity, { ...quietContext, parallel: pool, signal })
    await expect(cancelled).rejects.toMatchObject({ code: 'cancelled' })
    const d = await deviationTo(tetrahedron, cloud(50_000), Infinity, { ...quietContext, parallel: pool })
    expect(d.values.some(Number.isNaN)).toBe(false)
  })
  test('an error in a thread is the error of the whole, and the threads are good for the next', async () => {
    const unknown = defineKernel('test.unknown', () => 1)
    await expect(pool.map(unknown, {}, 100, 10, quietContext)).rejects.toThrow('kernel test.unknown is not loaded in this thread')
    await deviationTo(tetrahedron, cloud(50_000), Infinity, { ...quietContext, parallel: pool })
  })
  test('what a kernel refuses keeps its code, place and remedy on the way back', async () => {
    const folder = mkdtempSync(join(tmpdir(), 'oak-thread-'))
    const refusing = join(folder, 'thread.mjs')
    const sent = sendError(new OakError('too-thin', 'The sheet is too thin.', { where: 'pass 3', remedy: 'Scan it finer.' }))
    writeFileSync(
      refusing,
      `import { parentPort } from 'node:worker_threads'
parentPort.on('message', (m) => m.kind === 'chunk' && parentPort.postMessage({ map: m.map, index: m.index, error: ${JSON.stringify(sent)} }))
`,
    )
    const threads = threadPool(2, refusing)
    const refused = threads.map(
      defineKernel('test.refused', () => 1),
      {},
      100,
      10,
      quietContext,
    )
    await expect(refused).rejects.toBeInstanceOf(OakError)
    await expect(refused).rejects.toMatchObject({ code: 'too-thin', where: 'pass 3', remedy: 'Scan it finer.' })
    await threads.close()
    expect(receiveError(sendError(new Cancelled()))).toBeInstanceOf(Cancelled)
    const strange = receiveError(sendError(new TypeError('x is no function')))
    expect([strange instanceof OakError, strange.message, strange.stack?.includes('pool.test')]).toEqual([false, 'x is no function', true])
  })
  test('more memory than there is: said, with what to do', () => {
    expect(() => f32(2 ** 52)).toThrow(expect.objectContaining({ code: 'out-of-memory', remedy: 'Thin or trim the passes, or choose a coarser cell.' }))
  })
  test('work of one chunk stays on the calling thread, where its kernel is known', async () => {
    const here = defineKernel('test.here', (_: object, start: number, end: number) => end - start)
    expect(await pool.map(here, {}, 10, 10, quietContext)).toEqual([10])
    expect(threadPool(1, file).threads).toBe(1)
    expect(threadPool(4, undefined).threads).toBe(1)
  })
  test('a thread that dies fails its work and not the one after', async () => {
    const folder = mkdtempSync(join(tmpdir(), 'oak-thread-'))
    const mortal = join(folder, 'thread.mjs')
    // a stand-in that dies of its second piece of work in its first life
    writeFileSync(
      mortal,
      `import { parentPort } from 'node:worker_threads'
import { existsSync, writeFileSync } from 'node:fs'
let n = 0
parentPort.on('message', (m) => {
  if (m.kind !== 'chunk') return
  if (++n === 2 && !existsSync(${JSON.stringify(join(folder, 'died'))})) {
    writeFileSync(${JSON.stringify(join(folder, 'died'))}, '')
    process.exit(1)
  }
  parentPort.postMessage({ map: m.map, index: m.index, result: m.end - m.start })
})
`,
    )
    const fragile = threadPool(2, mortal)
    const kernel = defineKernel('test.size', (_: object, start: number, end: number) => end - start)
    await expect(fragile.map(kernel, {}, 100, 10, quietContext)).rejects.toMatchObject({ code: 'thread-ended' })
    expect(await fragile.map(kernel, {}, 25, 10, quietContext)).toEqual([10, 10, 5])
    await fragile.close()
  })
})

describe('work sent away', () => {
  test('one small piece runs on a thread, and this thread stays free meanwhile', async () => {
    const image = { width: 640, height: 480, data: new Uint8Array(640 * 480).fill(90) }
    let turns = 0
    const beat = setInterval(() => turns++, 1)
    const r = await pool.away(readPlates, { images: [image], plate: { pattern: 'chessboard', columns: 7, rows: 6 } as never })
    clearInterval(beat)
    expect([r[0].trouble?.code, turns > 2]).toEqual(['no-plate', true])
  })
  test('without threads it runs here', async () => {
    const alone = threadPool(1)
    const r = await alone.away(solveCalibration, { plate: {} as never, observations: [], width: 1, height: 1 })
    expect(r).toMatchObject({ failed: { code: 'too-few-poses' } })
    await alone.close()
  })
  test('shared memory that nobody holds any more is given back while more is asked for', () => {
    const size = 2 ** 25
    const held = () => process.memoryUsage().rss
    letCollect()
    f32(1)
    const before = held()
    let most = 0
    for (let k = 0; k < 20; k++) {
      f32(size).fill(k + 1)
      most = Math.max(most, held() - before)
    }
    // 2.7 GB have come and gone; three pieces at the most were there at once
    expect(most).toBeLessThan(0.8e9)
  })
})
