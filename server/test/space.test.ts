import { expect, test } from '@jest/globals'
import { statfsSync } from 'node:fs'
import type { Database } from '../src/db/connect.ts'
import { mustFit, watchSpace } from '../src/space.ts'
import { toProblem } from '../src/problem.ts'

const database = (url: string, query: () => Promise<unknown>) => ({ url, pool: { query } }) as unknown as Database

test('a file that leaves too little room is refused before it is sent, with both figures', () => {
  const space = { free: 3e9, total: 1e11 }
  expect(() => mustFit(space, 1.3e9, 'a.ply')).not.toThrow()
  expect(() => mustFit(null, 1e12, 'a.ply')).not.toThrow()
  expect(() => mustFit(space, 2e9, 'a.ply')).toThrow(
    expect.objectContaining({
      code: 'disk-full',
      where: 'a.ply',
      message: expect.stringMatching(/needs 4\.3 GB.*3\.0 GB are free/) as unknown,
    }),
  )
})
test('the room is that of the disk the database lies on; of one elsewhere, or where nobody may look, nothing is claimed', async () => {
  const local = watchSpace(database('postgres://oak@127.0.0.1:5/x', () => Promise.resolve({ rows: [{ data_directory: '/' }] })))
  const { blocks, bsize } = statfsSync('/')
  expect((await local())?.total).toBe(blocks * bsize)
  let asked = 0
  const count = () => {
    asked++
    return Promise.reject(new Error('permission denied'))
  }
  expect(await watchSpace(database('postgres://oak@127.0.0.1:5/x', count))()).toBeNull()
  expect(await watchSpace(database('postgres://oak@db.example:5/x', count))()).toBeNull()
  expect(asked).toBe(1)
})
test('a full disk is told as such, wherever it was met', () => {
  const nested = new Error('insert failed', { cause: Object.assign(new Error('could not extend file'), { code: '53100' }) })
  for (const e of [
    nested,
    Object.assign(new Error('x'), { code: 'ENOSPC' }),
    Object.assign(new Error('x'), { parent: Object.assign(new Error('y'), { code: '53100' }) }),
  ])
    expect(toProblem(e).code).toBe('disk-full')
  expect(toProblem(Object.assign(new Error('x'), { code: '53200' })).code).toBe('internal')
})
