import { expect, it } from '@jest/globals'
import { growingSurface } from '@oak-gauge/core/capture/surface.ts'
import { SeenFloor } from '../src/capture/seenfloor.ts'

/** A level square of 80 mm at a height, and a smaller one 20 mm above it, as seen from far above. */
function surfaceAt(height: number) {
  const s = growingSurface(2, 0.05)
  const list: number[] = []
  for (let x = -40; x < 40; x += 0.6) for (let y = -40; y < 40; y += 0.6) list.push(x, y, height + (Math.hypot(x, y) < 12 ? 20 : 0) - 400)
  s.addFrame(Float32Array.from(list), Float64Array.of(1, 0, 0, 0, 0, 1, 0, 0, 0, 0, 1, 400, 0, 0, 0, 1), 0)
  return s
}
const table = { floor: 'table' as const, floorMarkers: [], raise: 0.5 }

it('a surface that begins anew has its floor elsewhere: the one before hides nothing of it, however small it is yet', () => {
  const f = new SeenFloor(table, null)
  expect(f.look(surfaceAt(0))).toBe(true)
  expect([f.known(), f.isBeneath(30, 30, 0), f.isBeneath(0, 0, 20)]).toEqual([true, true, false])
  expect(f.view().found!.beneath).toBeGreaterThan(0.8)
  // as large as before: not looked for again
  expect(f.look(surfaceAt(0))).toBe(false)
  f.beginAnew()
  expect([f.known(), f.isBeneath(30, 30, 0), f.view().found]).toEqual([false, false, null])
  expect(f.look(surfaceAt(-50))).toBe(true)
  expect([f.isBeneath(30, 30, 0), f.isBeneath(30, 30, -50)]).toEqual([false, true])
})
it('says why none is found, hides nothing then, and nothing when none is asked for any more', () => {
  const f = new SeenFloor({ ...table, floor: 'markers', floorMarkers: ['1'] }, null)
  expect(f.look(surfaceAt(0))).toBe(true)
  expect([f.view().found, f.view().problem?.code, f.isBeneath(0, 0, -9)]).toEqual([null, 'missing-input', false])
  f.ask(null)
  expect([f.look(surfaceAt(0)), f.view().problem]).toEqual([false, null])
})
