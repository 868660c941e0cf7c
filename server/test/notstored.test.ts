import { afterAll, beforeAll, expect, it } from '@jest/globals'
import { atTheShelf, type Shelf } from './capturing.ts'
import { until } from './help.ts'

let shelf: Shelf
beforeAll(async () => void (shelf = await atTheShelf('Alder')), 120_000)
afterAll(() => shelf.all.stop())

it('frames that the database does not take wait, that is said, it is held before they fill the memory, and none is lost', async () => {
  const { all, begin, act, run } = shelf
  await begin('Alder', { by: 'shape', spacing: 2 })
  await act('Alder', 'record')
  await until(
    () => run('Alder'),
    (r) => r.frames > 10,
    60,
  )
  await all.db.pool.query('alter table session_chunk rename to session_chunk_away')
  const said = await until(
    () => run('Alder'),
    (r) => r.problem !== null,
    30,
  )
  expect([said.problem!.code, said.phase]).toEqual(['not-stored', 'recording'])
  expect(said.problem!.remedy).toContain('Nothing is lost')
  const held = await until(
    () => run('Alder'),
    (r) => r.phase === 'held',
    60,
  )
  expect(held.frames).toBeGreaterThan(said.frames)
  expect((await act('Alder', 'record')).body.code).toBe('not-stored')
  expect((await run('Alder')).phase).toBe('held')
  await all.db.pool.query('alter table session_chunk_away rename to session_chunk')
  await until(
    () => run('Alder'),
    (r) => r.problem === null,
    30,
  )
  await act('Alder', 'record')
  const on = await until(
    () => run('Alder'),
    (r) => r.frames > held.frames + 5,
    60,
  )
  expect([on.phase, on.problem]).toEqual(['recording', null])
  await act('Alder', 'hold')
  // whoever takes the session over finds every frame
  const { frames } = await run('Alder')
  await shelf.killed('Alder')
  expect((await run('Alder')).frames).toBe(frames)
  await act('Alder', 'cancel')
}, 240_000)
