import { describe, expect, test } from '@jest/globals'
import { quietContext } from '@oak-gauge/core/base/run.ts'
import { ZOO } from '../src/zoo/parts.ts'
import { zooPasses, zooScene } from '../src/zoo/record.ts'
import { tryOut, type Outcome } from '../src/zoo/tryout.ts'

/** A small part of `npm run bench -- zoo`, sparse passes of parts that differ in kind. */
async function ended(name: string, spacing: number, correlated: boolean, shape: boolean): Promise<Outcome> {
  const part = ZOO.find((p) => p.name === name)
  if (!part) throw new Error(name)
  const scene = await zooScene(part, spacing, quietContext)
  return tryOut(scene, zooPasses(scene, { sigma: 0.03, correlated, seed: 1, tracking: 0.08 }), { shape }, quietContext)
}

/** ms: on one thread, and beside other work */
const SLOW = 400_000

describe('parts that differ in kind, against their truth', () => {
  test.each([
    ['knob', false],
    ['bracket', true],
  ] as const)(
    '%s: right within what is stated, correlated noise %p',
    async (name, correlated) => {
      const o = await ended(name, 0.8, correlated, false)
      expect([o.verdict, o.named]).toEqual(['right', []])
      expect(o.ratio).toBeLessThan(2.5)
      // stated errors are no excuse: a pass is known better than it was recorded
      expect(o.worst).toBeLessThan(name === 'knob' ? 0.02 : 0.11)
    },
    SLOW,
  )
  test(
    'pot: what a turned part leaves free is named, the rest is right',
    async () => {
      const o = await ended('pot', 0.8, false, false)
      expect(o.named).toEqual(['3 turn about z'])
      expect([o.verdict, o.ratio < 2.5]).toEqual(['free named', true])
    },
    SLOW,
  )
  test(
    'sheet cover, turned over: found or refused, never laid inside out',
    async () => {
      const o = await ended('sheet cover', 0.8, false, true)
      expect(['right', 'refused', 'doubtful']).toContain(o.shape)
      expect(o.ratio).toBeLessThan(2.5)
    },
    SLOW,
  )
})
