import { expect, it } from '@jest/globals'
import { Light } from '../src/capture/light.ts'
import type { ScannerKeeper } from '../src/scanners/keeper.ts'

/** A light whose scanner answers each order when it is let; and what it was asked for. */
function lit(auto: boolean) {
  const asked: object[] = []
  const answers: ((refused?: Error) => void)[] = []
  const state = { exposure: 1, pattern: 'cross' }
  const order = (o: object) => {
    asked.push(o)
    return new Promise<void>((done, failed) => answers.push((refused) => (refused ? failed(refused) : done())))
  }
  const keeper = { of: () => ({ state }), link: () => ({ order }), lit: (_: string, l: object) => void Object.assign(state, l) }
  const problems: unknown[] = []
  const light = new Light(keeper as unknown as ScannerKeeper, 'a', ['cross', 'line'], auto)
  const dark = { count: 500, brightness: new Uint8Array(500).fill(20), dark: 0.5, bright: 0 }
  return { light, state, asked, answers, problems, dark, frame: (f: Parameters<Light['frame']>[0] = dark) => light.frame(f, (e) => problems.push(e)) }
}

it('an exposure is asked for once, and not again before the scanner has it; a scanner that refuses is heard', async () => {
  const { light, state, asked, answers, problems, frame } = lit(true)
  for (let k = 0; k < 5; k++) frame()
  expect(asked).toEqual([{ type: 'set', exposure: 1.6 }])
  expect([state.exposure, light.view().seen]).toEqual([1, { dark: 0.5, bright: 0 }])
  answers[0]()
  await new Promise((resolve) => setTimeout(resolve, 300))
  expect(light.view()).toMatchObject({ exposure: 1.6, auto: true, pattern: 'cross' })
  frame()
  answers[1](new Error('it does not'))
  await new Promise((resolve) => setTimeout(resolve, 0))
  expect([asked.length, state.exposure, problems.length]).toEqual([2, 1.6, 1])
})

it('by hand nothing moves it; a pattern leaves the exposure to itself; a refusal changes nothing', async () => {
  const { light, state, asked, answers, frame } = lit(true)
  const pattern = light.set({ pattern: 'line' })
  answers[0]()
  await pattern
  expect([state.pattern, light.auto]).toEqual(['line', true])
  const refused = light.set({ exposure: 3 })
  answers[1](new Error('no'))
  await expect(refused).rejects.toThrow('no')
  expect([state.exposure, light.auto]).toEqual([1, true])
  const hand = light.set({ exposure: 3 })
  answers[2]()
  await hand
  frame()
  expect([state.exposure, light.auto, asked.length]).toEqual([3, false, 3])
})

it('by hand while it asks for another by itself: the hand comes last, and stays', async () => {
  const { light, state, asked, answers, frame } = lit(true)
  frame()
  const hand = light.set({ exposure: 3 })
  // nothing is asked for by itself from now on, and the hand waits for what is under way
  frame()
  expect(asked).toEqual([{ type: 'set', exposure: 1.6 }])
  answers[0]()
  await new Promise((resolve) => setTimeout(resolve, 300))
  frame()
  expect(asked.slice(1)).toEqual([{ type: 'set', exposure: 3 }])
  frame()
  answers[1]()
  await hand
  expect([state.exposure, light.auto, asked.length]).toEqual([3, false, 2])
})

it('by a spot: what lies around it counts, and nothing else; where it is not seen, or nobody knows where it is, nothing moves', async () => {
  const { light, asked, answers } = lit(false)
  // a hundred dark points about the spot, five hundred bright ones beside it, before a scanner that stands at (100, 0, 0)
  const xyz = Float32Array.from({ length: 1800 }, (_, i) => (i % 3 === 2 ? 400 : i < 300 ? (i % 7) - 3 : 50 + (i % 11)))
  const brightness = Uint8Array.from({ length: 600 }, (_, i) => (i < 100 ? 40 : 200))
  const f = { count: 600, xyz, brightness, dark: 0, bright: 0 }
  const pose = Float64Array.of(1, 0, 0, 100, 0, 1, 0, 0, 0, 0, 1, 0, 0, 0, 0, 1)
  const look = async (...at: [Float64Array?]) => {
    light.frame(f, () => undefined, ...at)
    await new Promise((resolve) => setTimeout(resolve, 260))
  }
  await light.set({ spot: [100, 0, 400] })
  expect(light.view()).toMatchObject({ auto: true, spot: [100, 0, 400] })
  await look()
  expect(asked).toEqual([])
  await look(pose)
  expect(asked).toEqual([{ type: 'set', exposure: 1.6 }])
  answers[0]()
  await light.set({ spot: [300, 0, 400] })
  await look(pose)
  expect(asked).toHaveLength(1)
  // of all that is seen most is too bright
  await light.set({ auto: true })
  expect(light.view().spot).toBeNull()
  await look(pose)
  expect(asked[1]).toMatchObject({ type: 'set' })
  expect((asked[1] as { exposure: number }).exposure).toBeLessThan(1.6)
  answers[1]()
  // another model has other places
  await light.set({ spot: [100, 0, 400] })
  light.beginAnew()
  expect(light.view().spot).toBeNull()
})

it('a scanner that does not tell how bright its points are is not said to set itself', () => {
  const { light, asked, problems, frame } = lit(true)
  frame({ count: 0 })
  expect([light.auto, problems.length]).toEqual([true, 0])
  frame({ count: 400 })
  frame({ count: 400 })
  expect([light.auto, asked.length, problems.map((p) => (p as { code: string }).code)]).toEqual([false, 0, ['no-levels']])
})
