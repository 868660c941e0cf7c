import { describe, expect, it } from '@jest/globals'
import { zipSync } from 'fflate'
import { seeded } from '../src/base/random.ts'
import { quietContext } from '../src/base/run.ts'
import { decodeFrame, encodeFrame, roundFrame, withBrightness } from '../src/capture/framecode.ts'
import { inReach } from '../src/capture/reach.ts'
import { readFrames } from '../src/formats/frames.ts'
import { writeAny } from '../src/formats/index.ts'
import { bytesSource } from '../src/formats/source.ts'
import type { Item } from '../src/operations/operation.ts'
import { runOperation } from '../src/operations/registry.ts'
import { MATERIALS } from '../src/scanner/scene.ts'
import { takeShot } from '../src/scanner/shot.ts'
import { designedStereo } from '../src/scanner/spec.ts'
import { makePoints, type Points } from '../src/shape/points.ts'
import { buildBvh } from '../src/space/bvh.ts'
import { hand } from './hand.ts'
import { concat } from './help.ts'
import { tray } from './tray.ts'

const range = { near: 300, ideal: 450, far: 700 }
const optics = designedStereo({ width: 640, height: 480, focal: 700, baseline: 150, crossing: 450 })
const bvh = buildBvh(tray, 'median')
const shot = (k: number, print?: number, colour = true) =>
  takeShot(
    { range },
    optics,
    optics,
    [{ kind: 'mesh', mesh: tray, bvh, pose: [1, 0, 0, 0, 0, 1, 0, 0, 0, 0, 1, 0, 0, 0, 0, 1], material: MATERIALS.matte, ...(print ? { print } : {}) }],
    {
      pose: hand(1.5 * k),
      pattern: 'area',
      exposure: 1,
      stride: 5,
      noise: 0.03,
      seed: 7 + k,
      colour,
    },
  )
/** of the points that are dark and bright: how much bluer than red they are, in parts of their brightness */
function blueness(levels: Uint8Array, colours: Uint8Array) {
  const of = (wanted: (v: number) => boolean) => {
    let [n, sum] = [0, 0]
    for (let i = 0; i < levels.length; i++) if (wanted(levels[i])) [n, sum] = [n + 1, sum + (colours[3 * i + 2] - colours[3 * i]) / levels[i]]
    return sum / n
  }
  const middle = Uint8Array.from(levels).sort()[levels.length >> 1]
  return { dark: of((v) => v < 0.6 * middle), bright: of((v) => v > 1.1 * middle) }
}

describe('colours of a frame', () => {
  it('a grey part is grey, ink is blue, and both are as bright as without colours, at the same places', () => {
    const [plain, printed] = [shot(0), shot(0, 14)]
    expect(shot(0, 14, false)).toEqual({ ...printed, colours: undefined })
    const off = (s: typeof plain) => withBrightness({ xyz: s.xyz, colours: s.colours! }).intensity!.map((v, i) => Math.abs(v - s.intensity[i]))
    for (const s of [plain, printed]) expect(off(s).reduce((a, b) => a + b, 0) / s.intensity.length).toBeLessThan(4)
    const grey = plain.intensity.reduce((sum, v, i) => sum + (plain.colours![3 * i + 2] - plain.colours![3 * i]) / v, 0) / plain.intensity.length
    expect(Math.abs(grey)).toBeLessThan(0.01)
    const { dark, bright } = blueness(printed.intensity, printed.colours!)
    expect(dark).toBeGreaterThan(1)
    expect(bright).toBeLessThan(0.4)
  })
  it.each([
    ['with brightness', true],
    ['alone', false],
  ])('come back from bytes as they were, %s', (_, lit) => {
    const r = seeded(5)
    const n = 1000
    const frame = {
      xyz: roundFrame(
        Float32Array.from({ length: 3 * n }, () => 300 * r.gauss()),
        0.01,
      ),
      ...(lit ? { intensity: Uint8Array.from({ length: n }, () => r.below(256)) } : {}),
      colours: Uint8Array.from({ length: 3 * n }, () => r.below(256)),
    }
    expect(decodeFrame(encodeFrame(frame, 0.01))).toEqual(frame)
    expect(() => decodeFrame(encodeFrame(frame, 0.01).subarray(0, -1))).toThrow(/its length/)
  })
  it('stay with their points where limits leave some out', () => {
    const xyz = Float32Array.from([0, 0, 99, 5, 5, 100, 0, 0, 201])
    expect(inReach({ xyz, colours: Uint8Array.from([1, 2, 3, 4, 5, 6, 7, 8, 9]) }, { near: 100, far: 200 }).colours).toEqual(Uint8Array.from([4, 5, 6]))
  })
  it('tell how bright a point is where nothing else does', () => {
    const xyz = new Float32Array(6)
    const colours = Uint8Array.from([255, 255, 255, 0, 100, 0])
    expect(withBrightness({ xyz, colours }).intensity).toEqual(Uint8Array.from([255, 59]))
    const known = { xyz, colours, intensity: Uint8Array.from([1, 2]) }
    expect(withBrightness(known)).toBe(known)
  })
})

describe('frames with colours as files', () => {
  const file = (k: number, coloured = true) => {
    const { xyz, colours } = shot(k, 14)
    return concat(writeAny('ply', makePoints({ xyz, ...(coloured ? { colours } : {}) }), 'frame'))
  }
  const archive = (files: Uint8Array[]) => bytesSource('round.zip', zipSync(Object.fromEntries(files.map((f, i) => [`f${i}.ply`, f])), { level: 1 }), 1000)
  const pass = async (files: Uint8Array[]) => {
    const r = await runOperation('solve-recording', { file: [{ kind: 'file', source: archive(files) }] }, {}, quietContext)
    return (r.outputs['pass'][0] as Item<Points>).data
  }
  it('are read with them, and become a pass that is coloured as the part is', async () => {
    const files = Array.from({ length: 12 }, (_, k) => file(k))
    const { frames } = await readFrames(archive(files), 'mm', quietContext)
    const { xyz, colours, intensity } = frames[3].points()
    expect([colours?.length, intensity?.length]).toEqual([xyz.length, xyz.length / 3])
    const points = await pass(files)
    expect(points.colours?.length).toBe(points.xyz.length)
    const { dark, bright } = blueness(withBrightness({ xyz: points.xyz, colours: points.colours! }).intensity!, points.colours!)
    expect(dark).toBeGreaterThan(1)
    expect(bright).toBeLessThan(0.4)
  })
  it('where some have none, the pass has none', async () => {
    expect((await pass(Array.from({ length: 12 }, (_, k) => file(k, k !== 5)))).colours).toBeUndefined()
  })
})
