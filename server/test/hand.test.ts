import { expect, it } from '@jest/globals'
import { invertRigid, multiply, rotationAngleDeg, transformPoint, type Mat4 } from '@oak-gauge/core/base/mat4.ts'
import type { ScannerRow } from '../src/db/scannermodels.ts'
import { Hand, inStep } from '../src/markers/hand.ts'
import type { Stage } from '../src/markers/stage.ts'
import type { ScannerKeeper } from '../src/scanners/keeper.ts'

const IDEAL = 400
const still = { away: 0, right: 0, down: 0, topAway: 0, rightAway: 0, turn: 0 }

it('a hand that is led sets off gently: what is passed over on a slow machine just then would tear it away', async () => {
  const held: Mat4[] = []
  const link = { order: (o: { pose: number[] }) => Promise.resolve(void held.push(Float64Array.from(o.pose))) }
  let ended: () => void = () => undefined
  const done = new Promise<void>((resolve) => (ended = resolve))
  const hand: Hand = new Hand(
    { link: () => link } as unknown as ScannerKeeper,
    { id: 'a', spec: { turntable: false, arm: false, range: { ideal: IDEAL } } } as unknown as ScannerRow,
    { box: [-80, -60, 0, 80, 60, 40] } as unknown as Stage,
    6,
    () => hand.at === null && ended(),
  )
  await hand.take()
  hand.lead(
    () => 1,
    (e) => {
      throw e
    },
  )
  await done
  const step = (k: number) => Math.hypot(...[3, 7, 11].map((i) => held[k][i] - held[k - 1][i]))
  expect(step(1)).toBeLessThan(0.1 * step(40))
  expect(step(10)).toBeLessThan(0.6 * step(40))
  // and comes round
  expect([held.length > 100, held.length < 120]).toEqual([true, true])
  expect(Math.max(...held[0].map((v, i) => Math.abs(v - held[held.length - 1][i])))).toBeLessThan(1e-6)
})

it('a hand goes one step a frame, evenly in time however unevenly they come, and not far where none comes', () => {
  // what a slow computer does: frames after 100 to 500 ms, 300 on the average
  const after = [300, 100, 500, 300, 200, 400, 100, 500, 300]
  let newest = 0
  const pace = inStep(() => newest)
  const shares: number[] = []
  let [frames, due, n] = [0, after[0], 0]
  for (let ms = 0; ms < 60_000; ms += 60) {
    if (ms >= due) {
      newest = ms
      frames++
      due = ms + after[n++ % after.length]
    }
    shares.push(pace())
  }
  const late = shares.slice(500)
  const perFrame = (late.reduce((a, b) => a + b, 0) / late.length) * (shares.length / frames)
  expect(perFrame).toBeGreaterThan(0.8)
  expect(perFrame).toBeLessThan(1.2)
  // never twice as fast as slow
  expect(Math.max(...late) / Math.min(...late)).toBeLessThan(2)
  // none comes any more
  let on = 0
  for (let k = 0; k < 200; k++) on += pace()
  expect(on).toBeLessThan(4)
  // as fast as ever where they come as fast as ever
  const quick = inStep(() => newest)
  for (let k = 0; k < 50; k++) {
    newest += 60
    expect(quick()).toBe(1)
  }
})

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
