import { afterAll, afterEach, describe, expect, test } from '@jest/globals'
import { PNG } from 'pngjs'
import { execFileSync, spawn } from 'node:child_process'
import { existsSync, readFileSync, writeFileSync } from 'node:fs'
import { getPriority } from 'node:os'
import { text } from 'node:stream/consumers'
import type { ItemRow } from '../src/db/models.ts'
import { keepExports, type Exports } from '../src/helper/exports.ts'
import { helperProcess, type Helper } from '../src/helper/helper.ts'

const item = (name: string) => ({ id: name, name, kind: 'mesh', arrays: {}, meta: {}, pose: [] }) as unknown as ItemRow
let open: Exports | undefined
afterEach(async () => {
  await open?.close()
  open = undefined
})

/** Writes the item's name, and counts. */
function scribe(wait: () => Promise<void> = () => Promise.resolve()): Helper & { wrote: string[]; fails: boolean } {
  const h = {
    wrote: [] as string[],
    fails: false,
    async run(task: { task: string; item?: { name: string }; path?: string }) {
      h.wrote.push(task.item?.name ?? '')
      await wait()
      if (h.fails) throw new Error('no space')
      writeFileSync(task.path ?? '', `file of ${task.item?.name}`)
      return { ending: 'stl', bytes: 10 }
    },
    close: () => Promise.resolve(),
  }
  return h as never
}

describe('files that leave', () => {
  test('are written once, however many ask at once, and again by nobody who asks later', async () => {
    const h = scribe(() => new Promise((r) => setTimeout(r, 20)))
    open = keepExports(h)
    const files = await Promise.all(Array.from({ length: 5 }, () => open!.of(item('a'), null, 'stl')))
    expect(await Promise.all(files.map((f) => text(f.read())))).toEqual(files.map(() => 'file of a'))
    for (const f of files) f.done()
    const late = await open.of(item('a'), null, 'stl')
    expect(await text(late.read())).toBe('file of a')
    expect(h.wrote).toEqual(['a'])
    await open.of(item('a'), null, 'ply')
    expect(h.wrote).toEqual(['a', 'a'])
  })
  test('the oldest go when there are many, never one that is being read', async () => {
    const h = scribe()
    open = keepExports(h)
    const held = await open.of(item('held'), null, 'stl')
    for (let k = 0; k < 12; k++) (await open.of(item(`n${k}`), null, 'stl')).done()
    await new Promise((r) => setTimeout(r, 20))
    // read late, and twice
    expect(await text(held.read())).toBe('file of held')
    expect(await text(held.read())).toBe('file of held')
    held.done()
    const before = h.wrote.length
    ;(await open.of(item('n11'), null, 'stl')).done()
    ;(await open.of(item('held'), null, 'stl')).done()
    expect(h.wrote.length).toBe(before)
    ;(await open.of(item('n0'), null, 'stl')).done()
    expect(h.wrote.length).toBe(before + 1)
  })
  test('one that could not be written is tried again', async () => {
    const h = scribe()
    open = keepExports(h)
    h.fails = true
    await expect(open.of(item('a'), null, 'stl')).rejects.toThrow('no space')
    h.fails = false
    const f = await open.of(item('a'), null, 'stl')
    expect(await text(f.read())).toBe('file of a')
  })
})

describe('the helper process', () => {
  const h = helperProcess('postgres://nobody@127.0.0.1:1/none')
  afterAll(() => h.close())
  test('decodes an image; one that claims more than memory holds is refused unread', async () => {
    const png = new PNG({ width: 3, height: 2 })
    png.data.fill(255)
    png.data.set([255, 0, 0, 255], 4)
    const read = await h.run({ task: 'decode', bytes: PNG.sync.write(png), name: 'a.png' })
    // red by ITU-R BT.601
    expect([read.width, read.height, ...read.data]).toEqual([3, 2, 255, 76, 255, 255, 255, 255])
    const huge = PNG.sync.write(png)
    huge.writeUInt32BE(60_000, 16)
    huge.writeUInt32BE(60_000, 20)
    await expect(h.run({ task: 'decode', bytes: huge, name: 'huge.png' })).rejects.toMatchObject({ code: 'bad-image', where: 'huge.png' })
    await expect(h.run({ task: 'decode', bytes: Uint8Array.of(1, 2, 3), name: 'x' })).rejects.toMatchObject({ code: 'bad-image' })
  })
  test('lets everything else go first, and the server does not wait for it; when the system ends it, that is said, and another begins', async () => {
    const decode = () => h.run({ task: 'decode', bytes: Uint8Array.of(1), name: 'x' })
    await expect(decode()).rejects.toMatchObject({ code: 'bad-image' })
    const [pid, another] = execFileSync('pgrep', ['-P', String(process.pid), '-f', 'helper.js'], { encoding: 'utf8' }).split('\n')
    expect(another).toBe('')
    expect(getPriority(Number(pid)) - getPriority()).toBe(10)
    // where the system shares the processor between sessions first
    const group = `/proc/${pid}/autogroup`
    if (existsSync(group)) expect(readFileSync(group, 'utf8')).toMatch(/nice 5$/m)
    process.kill(Number(pid), 'SIGSTOP')
    const waits = expect(decode()).rejects.toMatchObject({ code: 'out-of-memory' })
    process.kill(Number(pid), 'SIGKILL')
    await waits
    await expect(decode()).rejects.toMatchObject({ code: 'bad-image' })
  })
  test('does not outlive whoever began it, however that one ended', async () => {
    const begin = `import('node:child_process').then(({ fork }) => {
      const c = fork('.build/helper.js', { serialization: 'advanced' })
      c.on('message', () => console.log(c.pid))
      c.send({ id: 1, task: 'decode', bytes: Uint8Array.of(1), name: 'x' })
    })`
    const starter = spawn('node', ['-e', begin], { stdio: ['ignore', 'pipe', 'inherit'], env: { ...process.env, NODE_OPTIONS: '' } })
    const pid = await new Promise<number>((resolve) => starter.stdout.once('data', (b: Buffer) => resolve(Number(b.toString()))))
    const lives = () => existsSync(`/proc/${pid}`)
    expect(lives()).toBe(true)
    starter.kill('SIGKILL')
    for (let i = 0; i < 200 && lives(); i++) await new Promise((resolve) => setTimeout(resolve, 25))
    expect(lives()).toBe(false)
  })
  test('a database that is away is said, and what waits when it is ended fails at once', async () => {
    const write = {
      task: 'write',
      item: { ...item('a'), arrays: { xyz: { sha: 'x', type: 'f32', length: 3 } } },
      on: null,
      format: 'stl',
      path: '/nowhere/a',
    } as const
    await expect(h.run(write as never)).rejects.toMatchObject({ code: 'database-away' })
    const waits = [h.run(write as never), h.run(write as never)].map((p) => expect(p).rejects.toThrow(/ends|ended/))
    await h.close()
    await Promise.all(waits)
    // and begins again when it is wanted
    await expect(h.run({ task: 'decode', bytes: Uint8Array.of(1), name: 'x' })).rejects.toMatchObject({ code: 'bad-image' })
  })
})
