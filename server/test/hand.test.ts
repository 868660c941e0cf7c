import { expect, it } from '@jest/globals'
import { invertRigid, multiply, rotationAngleDeg, transformPoint, type Mat4 } from '@oak-gauge/core/base/mat4.ts'
import type { ScannerRow } from '../src/db/scannermodels.ts'
import { Hand } from '../src/markers/hand.ts'
import type { Stage } from '../src/markers/stage.ts'
import type { ScannerKeeper } from '../src/scanners/keeper.ts'

const IDEAL = 400
const still = { away: 0, right: 0, down: 0, topAway: 0, rightAway: 0, turn: 0 }

it('a hand leads back to where what it saw was known, not to where it was when that was told, and errs as a hand does', async () => {
  const held: Mat4[] = []
  const link = { order: (o: { pose: number[] }) => Promise.resolve(void held.push(Float64Array.from(o.pose))) }
  let ended: () => void = () => undefined
  let steps = 0
  const done = new Promise<void>((resolve) => (ended = resolve))
  const hand = new Hand(
    { link: () => link } as unknown as ScannerKeeper,
    { id: 'a', spec: { turntable: false, arm: false, range: { ideal: IDEAL } } } as unknown as ScannerRow,
    { box: [-80, -60, 0, 80, 60, 40] } as unknown as Stage,
    40,
    // two seconds in steps of 60 ms
    () => ++steps === 34 && ended(),
  )
  await hand.take()
  const known = hand.where()!
  for (let k = 0; k < 4; k++) await hand.move({ ...still, down: 60, topAway: 10 })
  // the tracker says late what it knew
  hand.remember(known)
  const torn = hand.where()!
  hand.back(
    () => true,
    (e) => {
      throw e
    },
  )
  await done
  const apart = (a: Mat4, b: Mat4) => {
    const d = multiply(a, invertRigid(b))
    const spot = transformPoint(b, 0, 0, IDEAL)
    return { mm: Math.hypot(...transformPoint(d, ...spot).map((v, i) => v - spot[i])), degrees: rotationAngleDeg(d) }
  }
  expect(apart(torn, known).degrees).toBeGreaterThan(30)
  const off = apart(hand.where()!, known)
  expect([off.mm, off.degrees].map((v) => Math.round(10 * v) / 10)).toEqual([12, 3])
  // by small steps, as a hand moves
  expect(held.length).toBe(1 + 4 + 34)
  for (let k = 5; k < held.length; k++) expect(apart(held[k], held[k - 1]).mm).toBeLessThan(30)
})
