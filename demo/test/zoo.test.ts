import { describe, expect, test } from '@jest/globals'
import { quietContext } from '@oak-gauge/core/base/run.ts'
import { meshFacts } from '@oak-gauge/core/measure/facts.ts'
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

test('the pot is a closed body, its volume that of its formula', async () => {
  const { topology, volume } = meshFacts(await ZOO.find((p) => p.name === 'pot')!.mesh())
  expect([topology.openEdges, topology.flippedEdges, topology.components]).toEqual([0, 0, 1])
  // the ring that the round takes away, in slices
  let ring = 0
  for (let z = 0.0005; z < 6; z += 0.001) ring += 0.001 * Math.PI * (45 ** 2 - (39 + Math.sqrt(36 - z * z)) ** 2)
  const formula = Math.PI * (45 ** 2 * 60 - 38 ** 2 * 52) - ring
  expect(Math.abs(volume / formula - 1)).toBeLessThan(3e-4)
})

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
      const o = await ended('pot', 1.2, false, false)
      expect(o.named).toEqual(['3 turn about z'])
      expect([o.verdict, o.ratio < 2.5]).toEqual(['free named', true])
    },
    SLOW,
  )
  test(
    'sheet cover, turned over: found or refused, never laid inside out',
    async () => {
      const o = await ended('sheet cover', 1.2, false, true)
      expect(['right', 'refused', 'doubtful']).toContain(o.shape)
      expect(o.ratio).toBeLessThan(2.5)
    },
    SLOW,
  )
})
