import { afterAll, beforeAll, describe, expect, test } from '@jest/globals'
import { randomUUID } from 'node:crypto'
import { mkdtempSync, rmSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { Sequelize } from 'sequelize'
import { z, ZodError } from 'zod'
import { Cancelled, OakError } from '@oak-gauge/core/base/errors.ts'
import { f32, u32, u8 } from '@oak-gauge/core/base/arrays.ts'
import { makeMesh } from '@oak-gauge/core/shape/mesh.ts'
import { makePoints } from '@oak-gauge/core/shape/points.ts'
import { fileSource, loadArray, readBlob, sendBlob, storeArray, storeFile } from '../src/blobs.ts'
import { openPool, connect, type Database } from '../src/db/connect.ts'
import { migrate, MIGRATIONS } from '../src/db/migrations.ts'
import type { ItemRow, StepRow } from '../src/db/models.ts'
import { forwardOf, pathTo, trayAfter } from '../src/ledger/state.ts'
import { startCluster, type Cluster } from '../src/postgres.ts'
import { toProblem } from '../src/problem.ts'
import { ArrayCache } from '../src/worker/cache.ts'
import { packValue, unpackItem } from '../src/worker/pack.ts'

const root = mkdtempSync(join(tmpdir(), 'oak-store-'))
let cluster: Cluster
let db: Database
beforeAll(async () => {
  cluster = await startCluster({ root, throwaway: true })
  db = await connect(cluster.url)
}, 60_000)
afterAll(async () => {
  await (db as Database | undefined)?.close()
  cluster.stop()
  rmSync(root, { recursive: true, force: true })
})

async function* pieces(bytes: Uint8Array, size: number): AsyncGenerator<Uint8Array> {
  for (let i = 0; i < bytes.length; i += size) {
    await Promise.resolve()
    yield bytes.subarray(i, i + size)
  }
}
const pattern = (n: number, seed: number) => Uint8Array.from({ length: n }, (_, i) => (i * 31 + seed + (i >> 8)) & 255)
async function all(id: string): Promise<Buffer> {
  const parts: Buffer[] = []
  for await (const p of readBlob(db.pool, id)) parts.push(Buffer.from(p))
  return Buffer.concat(parts)
}
const blobs = async () => Number((await db.pool.query<{ n: string }>('select count(*) as n from blob')).rows[0].n)

describe('files and arrays in the database', () => {
  test.each([1, 4 * 1024 * 1024 - 1, 4 * 1024 * 1024, 9_000_001])('%p bytes come back as they went in, whatever the pieces', async (n) => {
    const bytes = pattern(n, n & 255)
    const { id, bytes: said } = await storeFile(db.pool, 'a.bin', pieces(bytes, 700_001))
    expect(said).toBe(n)
    expect((await all(id)).equals(Buffer.from(bytes))).toBe(true)
    const sent: Buffer[] = []
    for await (const p of sendBlob(db.pool, id)) sent.push(p)
    expect(Buffer.concat(sent).equals(Buffer.from(bytes))).toBe(true)
    const source = await fileSource(db.pool, id, 'a.bin')
    expect([source.name, source.size]).toEqual(['a.bin', n])
  })
  test('the same bytes are kept once', async () => {
    const bytes = pattern(5000, 77)
    const first = await storeFile(db.pool, 'one.bin', pieces(bytes, 999))
    const before = await blobs()
    const again = await storeFile(db.pool, 'two.bin', pieces(bytes, 13))
    expect([again.id, await blobs()]).toEqual([first.id, before])
    const a = f32(1000).map((_, i) => i)
    const store = () => db.sequelize.transaction((t) => storeArray(db.sequelize, a, t))
    const [x, y] = [await store(), await store()]
    expect([x, await blobs()]).toEqual([y, before + 1])
  })
  test('a stream that breaks leaves nothing', async () => {
    const before = await blobs()
    async function* broken(): AsyncGenerator<Uint8Array> {
      yield pattern(6_000_000, 3)
      await Promise.resolve()
      throw new Error('the line is dead')
    }
    await expect(storeFile(db.pool, 'b.bin', broken())).rejects.toThrow('the line is dead')
    expect(await blobs()).toBe(before)
  })
  test('a reader that stops early does not spoil the connections for the next', async () => {
    const { id } = await storeFile(db.pool, 'c.bin', pieces(pattern(20_000_000, 9), 1 << 20))
    for (let k = 0; k < 12; k++) for await (const p of readBlob(db.pool, id)) if (p.length) break
    expect((await all(id)).length).toBe(20_000_000)
  })
  test('arrays of each type; one that is gone or incomplete is told, not made up', async () => {
    const arrays = [f32(3).map((_, i) => i / 3), u32(4).map((_, i) => 4_000_000_000 + i), u8(5).map((_, i) => 250 + i)]
    for (const a of arrays) {
      const ref = await db.sequelize.transaction((t) => storeArray(db.sequelize, a, t))
      expect([...(await loadArray(db.pool, ref))]).toEqual([...a])
    }
    const ref = await db.sequelize.transaction((t) => storeArray(db.sequelize, f32(64).fill(7), t))
    await expect(loadArray(db.pool, { ...ref, length: 65 })).rejects.toMatchObject({ code: 'lost' })
    await expect(loadArray(db.pool, { ...ref, sha: 'f'.repeat(64) })).rejects.toMatchObject({ code: 'lost' })
  })
  test('the cache holds what was lately used, within its budget', async () => {
    const refs = await Promise.all([1, 2, 3].map((v) => db.sequelize.transaction((t) => storeArray(db.sequelize, f32(1000).fill(v), t))))
    const cache = new ArrayCache(db.pool, 9000)
    const load = async (k: number) => (await cache.load({ a: refs[k] }))['a']
    const [first, second] = [await load(0), await load(1)]
    expect(await load(0)).toBe(first)
    // the third does not fit beside both: the one not used for longest goes
    await load(2)
    expect(await load(0)).toBe(first)
    expect(await load(1)).not.toBe(second)
    expect([...(await load(1))]).toEqual([...second])
  })
})

describe('migrations', () => {
  test('run again change nothing; two programs at once do not trip over each other', async () => {
    const tables = async () => (await db.pool.query("select table_name from information_schema.tables where table_schema = 'public' order by 1")).rows
    const before = await tables()
    await Promise.all([migrate(db.sequelize), migrate(db.sequelize)])
    expect(await tables()).toEqual(before)
  })
  test('a database of the version before: the picture of a job goes to the step it stands at', async () => {
    const admin = openPool(cluster.admin, 1)
    await admin.query('create database older owner gauge')
    await admin.end()
    const url = cluster.url.replace(/postgres$/, 'older')
    const older = new Sequelize(url, { logging: false })
    try {
      await migrate(older)
      // back to how it was
      await older.query("alter table step drop picture; alter table job add picture text; delete from migration where name = '003-pictures'")
      await older.query(`insert into job (id, title, purpose, surface, head, picture) values ('00000000-0000-4000-8000-000000000001', 'Old', 'inspection', 'matte', '00000000-0000-4000-8000-000000000002', 'png');
        insert into step (id, job_id, operation, version, params, inputs) values ('00000000-0000-4000-8000-000000000002', '00000000-0000-4000-8000-000000000001', 'import', 1, '{}', '{}')`)
      await migrate(older)
      const [rows] = await older.query('select picture from step')
      expect(rows).toEqual([{ picture: 'png' }])
    } finally {
      await older.close()
    }
  })
})

describe('values as they lie in the database', () => {
  test('points and meshes come back the same, with what belongs to them', () => {
    const points = makePoints({ xyz: f32(30).map((_, i) => i), normals: f32(30), colours: u8(30), viewpoint: [1, 2, 3] })
    const p = packValue(points)
    expect(p.meta).toMatchObject({ count: 10, box: [0, 1, 2, 27, 28, 29], viewpoint: [1, 2, 3] })
    const row = (kind: string, meta: object) => ({ name: 'x', kind, meta, pose: [1, 0, 0, 5, 0, 1, 0, 0, 0, 0, 1, 0, 0, 0, 0, 1] }) as unknown as ItemRow
    const back = unpackItem(row('points', p.meta), p.arrays)
    expect(back.data).toEqual(points)
    expect(back.pose[3]).toBe(5)
    const mesh = makeMesh({ vertices: f32(12), triangles: u32(6).map((_, i) => i % 4), faces: u32(2).map((_, i) => 3 * i), unmeasured: u8(2) })
    const m = packValue(mesh)
    expect(m.meta).toMatchObject({ count: 2, faces: 4 })
    expect(unpackItem(row('mesh', m.meta), m.arrays).data).toEqual(mesh)
    const field = { kind: 'field' as const, values: f32(4), unit: 'mm' }
    const f = packValue(field)
    expect(unpackItem(row('field', f.meta), f.arrays).data).toEqual(field)
  })
})

describe('the graph of steps', () => {
  const step = (id: string, parent: string | null, more: object = {}) =>
    ({ id, parent, operation: 'thin', inputs: {}, chained: true, ...more }) as unknown as StepRow
  const item = (stepId: string, slotId: string, id: string, place = 0) => ({ id, stepId, slotId, place }) as unknown as ItemRow
  // a - b - c, and d beside c
  const steps = [step('a', null), step('b', 'a'), step('c', 'b'), step('d', 'b')]
  test('the path to a step; a ledger that names what is not there is told', () => {
    expect(pathTo(steps, 'd').map((s) => s.id)).toEqual(['a', 'b', 'd'])
    expect(pathTo(steps, null)).toEqual([])
    expect(() => pathTo(steps, 'x')).toThrow('a step that is not there')
  })
  test('forward leads along the branch that the job was on', () => {
    expect(forwardOf(steps, 'b', 'c')).toBe('c')
    expect(forwardOf(steps, 'b', 'd')).toBe('d')
    expect(forwardOf(steps, null, 'd')).toBe('a')
    expect(forwardOf(steps, 'd', 'd')).toBeNull()
    expect(forwardOf(steps, 'a', null)).toBeNull()
  })
  test('on the tray lies the newest item of each slot, without what was set aside', () => {
    const items = [item('a', 's1', 'i1'), item('a', 's2', 'i2', 1), item('b', 's1', 'i3'), item('c', 's2', 'i4')]
    const tray = (...path: StepRow[]) => [...trayAfter(path, items)].map(([slot, i]) => [slot, i.id])
    expect(tray(steps[0])).toEqual([
      ['s1', 'i1'],
      ['s2', 'i2'],
    ])
    expect(tray(steps[0], steps[1], steps[2])).toEqual([
      ['s1', 'i3'],
      ['s2', 'i4'],
    ])
    const aside = step('e', 'b', { operation: 'set-aside', inputs: { items: ['s1'] } })
    expect(tray(steps[0], steps[1], aside)).toEqual([['s2', 'i2']])
  })
})

describe('any error in four words', () => {
  test('ours as it is; wrong requests by field; memory; what is not ours to explain', () => {
    expect(toProblem(new OakError('x', 'What.', { where: 'there', remedy: 'Do.' }))).toEqual({ code: 'x', detail: 'What.', where: 'there', remedy: 'Do.' })
    expect(toProblem(new Cancelled()).code).toBe('cancelled')
    const wrong = z.object({ title: z.string('A name, please.') }).safeParse({})
    expect(wrong.error).toBeInstanceOf(ZodError)
    expect(toProblem(wrong.error)).toMatchObject({ code: 'bad-request', detail: 'A name, please.', where: 'title' })
    let e: unknown
    try {
      new Float64Array(2 ** 40)
    } catch (thrown) {
      e = thrown
    }
    expect(toProblem(e)).toMatchObject({ code: 'out-of-memory' })
    expect(toProblem(new TypeError('x is undefined'))).toMatchObject({ code: 'internal' })
    expect(toProblem(new TypeError('x is undefined')).detail).not.toContain('undefined')
  })
})

describe('ledgers of before quantities had ids', () => {
  test('their names become ids, figures that were asked at stay, the uncertainty of a flag is halved; run again it changes nothing', async () => {
    await migrate(db.sequelize)
    const quantities = [
      { name: 'alignment, worst pass', value: 0.0123, unit: 'mm' },
      { name: 'within 0.25 mm', value: 98.5, unit: '%' },
      { name: 'mean', value: 0.01, unit: 'mm' },
      { name: 'moved', value: 0.4, unit: 'mm', of: 'Pass 2' },
      { name: 'moved', value: '7, 9', unit: '' },
      { name: 'deviation', value: 0.4, unit: 'mm', of: 'foot', uncertainty: 0.02 },
      { name: 'moved by', value: 0.3, unit: 'mm', of: '7', uncertainty: 0.004 },
      { name: 'edges of more than two', value: 0, unit: '' },
      { name: 'U', value: 0.01, unit: 'mm', of: '3' },
    ]
    const job = (await db.pool.query<{ id: string }>("insert into job (title, purpose, surface) values ('old', 'inspection', 'matte') returning id")).rows[0].id
    const add = "insert into step (job_id, operation, version, params, inputs, evidence) values ($1, 'adjust', 4, '{}', '{}', $2) returning id"
    const id = (await db.pool.query<{ id: string }>(add, [job, JSON.stringify({ quantities, warnings: ['kept'] })])).rows[0].id
    const none = (await db.pool.query<{ id: string }>(add, [job, null])).rows[0].id
    const read = async (of: string) => (await db.pool.query<{ evidence: unknown }>('select evidence from step where id = $1', [of])).rows[0].evidence
    const up = MIGRATIONS.find((m) => m.name === '005-quantities')?.up ?? ''
    for (let again = 0; again < 2; again++) {
      await db.pool.query(up)
      expect(await read(id)).toEqual({
        quantities: [
          { id: 'alignment-worst-pass', value: 0.0123, unit: 'mm' },
          { id: 'within', value: 98.5, unit: '%', at: 0.25 },
          { id: 'deviation-mean', value: 0.01, unit: 'mm' },
          { id: 'moved', value: 0.4, unit: 'mm', of: 'Pass 2' },
          { id: 'markers-moved', value: '7, 9', unit: '' },
          { id: 'deviation', value: 0.4, unit: 'mm', of: 'foot', u: 0.01 },
          { id: 'moved-by', value: 0.3, unit: 'mm', of: '7', u: 0.004 },
          { id: 'edges-of-more-than-two', value: 0, unit: '' },
          { id: 'marker-u', value: 0.01, unit: 'mm', of: '3' },
        ],
        warnings: ['kept'],
      })
      expect(await read(none)).toBeNull()
    }
  })
  test('what problems say is called detail, in steps and in runs; run again it changes nothing', async () => {
    const old = { code: 'x', message: 'It ends early.', where: 'a.stl', remedy: 'Copy it.' }
    const id = randomUUID()
    await db.pool.query("insert into job (id, title, purpose, surface) values ($1, 'Problems', 'inspection', 'matte')", [id])
    await db.pool.query(
      "insert into step (job_id, operation, version, params, inputs, problem) values ($1, 'import', 1, '{}', '{}', $2), ($1, 'import', 1, '{}', '{}', null)",
      [id, old],
    )
    const up = MIGRATIONS.find((m) => m.name === '009-problem-detail')?.up ?? ''
    for (let again = 0; again < 2; again++) {
      await db.pool.query(up)
      const { rows } = await db.pool.query('select problem from step where job_id = $1 order by seq', [id])
      expect(rows).toEqual([{ problem: { code: 'x', detail: 'It ends early.', where: 'a.stl', remedy: 'Copy it.' } }, { problem: null }])
    }
  })
})
