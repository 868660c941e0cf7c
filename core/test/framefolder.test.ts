import { describe, expect, it } from '@jest/globals'
import { encode } from 'fast-png'
import { strToU8, zipSync } from 'fflate'
import { identity, multiply, transformArray, type Mat4 } from '../src/base/mat4.ts'
import { seeded } from '../src/base/random.ts'
import { quietContext } from '../src/base/run.ts'
import { readFrames } from '../src/formats/frames.ts'
import { writeAny } from '../src/formats/index.ts'
import { pointNoise } from '../src/formats/pointnoise.ts'
import { bytesSource } from '../src/formats/source.ts'
import type { Item } from '../src/operations/operation.ts'
import { runOperation } from '../src/operations/registry.ts'
import { MATERIALS } from '../src/scanner/scene.ts'
import { lookingAt } from '../src/scanner/seemarkers.ts'
import { takeShot } from '../src/scanner/shot.ts'
import { designedStereo } from '../src/scanner/spec.ts'
import { makePoints, type Points } from '../src/shape/points.ts'
import { buildBvh } from '../src/space/bvh.ts'
import { concat, distancesTo, oakError, value } from './help.ts'
import { tray } from './tray.ts'

const optics = designedStereo({ width: 640, height: 480, focal: 700, baseline: 150, crossing: 450 })
const range = { near: 300, ideal: 450, far: 700 }
const things = [{ kind: 'mesh' as const, mesh: tray, bvh: buildBvh(tray, 'median'), pose: identity(), material: MATERIALS.matte }]
const hand = (degrees: number): Mat4 => {
  const [a, e] = [degrees, 55].map((d) => (d * Math.PI) / 180)
  return lookingAt([450 * Math.cos(e) * Math.cos(a), 450 * Math.cos(e) * Math.sin(a), 450 * Math.sin(e)], [0, 0, 0])
}
const poses = Array.from({ length: 24 }, (_, k) => hand(2 * k))
const shots = poses.map(
  (pose, k) => takeShot({ range }, optics, optics, things, { pose, pattern: 'area', exposure: 1, stride: 5, noise: 0.03, seed: 3 * k + 1 }).xyz,
)
const moved = (pose: Mat4, xyz: Float32Array) => {
  const out = new Float32Array(xyz.length)
  transformArray(pose, xyz, out)
  return out
}
const ply = (xyz: Float32Array) => concat(writeAny('ply', makePoints({ xyz }), 'frame'))
const archive = (files: Record<string, Uint8Array | object>) =>
  bytesSource(
    'round.zip',
    zipSync(Object.fromEntries(Object.entries(files).map(([name, f]) => [name, f instanceof Uint8Array ? f : strToU8(JSON.stringify(f))])), { level: 1 }),
    1000,
  )
const plys = (list = shots) => Object.fromEntries(list.map((xyz, i) => [`round/frame${i}.ply`, ply(xyz)]))
/** numbers of which the file does not say what they are */
const bare = (list: Float32Array[], k: number) =>
  Object.fromEntries(
    list.map((xyz, i) => [
      `round/frame${i}.xyz`,
      strToU8(Array.from({ length: xyz.length / 3 }, (_, j) => [0, 1, 2].map((a) => k * xyz[3 * j + a]).join(' ')).join('\n')),
    ]),
  )
const rows = (pose: Mat4) => Array.from(pose.subarray(0, 12))
const read = (files: Record<string, Uint8Array | object>, unit?: 'mm' | 'm') => readFrames(archive(files), unit, quietContext)
const refused = (files: Record<string, Uint8Array | object>) => oakError(read(files))
const solve = (files: Record<string, Uint8Array | object>, params: object = {}) =>
  runOperation('solve-recording', { file: [{ kind: 'file', source: archive(files) }] }, params, quietContext)
/** z points towards the first frame */
const upright = Float64Array.of(1, 0, 0, 0, 0, -1, 0, 0, 0, 0, -1, 0, 0, 0, 0, 1)
/** rms of points to the tray, once they lie where the first of the frames that hold one another was */
const offTray = (points: Points, firsts = poses.slice(0, 3).map((p) => multiply(p, upright))) =>
  Math.min(
    ...firsts.map((first) => {
      const off = distancesTo(tray, moved(first, points.xyz), 5)
      return Math.sqrt(off.reduce((s, d) => s + d * d, 0) / off.length)
    }),
  )

describe('frames as files', () => {
  it('a folder of point files becomes a pass, in the order of their numbers, held by shape', async () => {
    const r = await solve({ ...plys(), '__MACOSX/round/._frame0.ply': strToU8('nothing'), 'round/.hidden': strToU8('nothing') })
    expect(value(r.evidence, 'frames')).toBe(24)
    expect(Number(value(r.evidence, 'frames-not-placed'))).toBeLessThan(3)
    // points some 4 mm apart
    expect(Number(value(r.evidence, 'surface-spacing'))).toBeGreaterThan(2)
    expect(offTray((r.outputs['pass'][0] as Item<Points>).data)).toBeLessThan(0.12)
    // what it had to assume is said
    expect(r.evidence.warnings.join()).toMatch(/How much points scatter is not said: 0\.0\d+ mm/)
  })

  it('poses that are told hold frames of which nothing overlaps', async () => {
    const few = [0, 12, 23]
    const frames = few.map((k) => ({ file: `${k}.ply`, time: 1000 * k, pose: rows(poses[k]) }))
    const files = Object.fromEntries(few.map((k) => [`${k}.ply`, ply(shots[k])]))
    const r = await solve({ 'frames.json': { frames, noise: 0.08, own: { mm: 0.02, degrees: 0.002 } }, ...files }, { by: 'own' })
    expect(value(r.evidence, 'frames-not-placed')).toBe(0)
    // where they were told to be, not where the first one was
    expect(offTray((r.outputs['pass'][0] as Item<Points>).data, [identity()])).toBeLessThan(0.12)
    expect(r.evidence.warnings.join()).not.toMatch(/not said/)
  })

  it('the list says order, times, unit, markers and poses; metres become millimetres', async () => {
    const metres = bare(shots.slice(0, 3), 0.001)
    const pose = rows(poses[1]).map((v, i) => (i % 4 === 3 ? v / 1000 : v))
    const list = {
      unit: 'm',
      noise: 8e-5,
      frames: [
        { file: 'frame2.xyz', time: 5 },
        { file: 'frame0.xyz', time: 65, pose, markers: [0.01, 0.02, 0.45, 0.006] },
      ],
    }
    const r = await read({ ...metres, 'round/frames.json': list })
    expect(r.noise).toBeCloseTo(0.08)
    expect(r.frames.map((f) => f.time)).toEqual([5, 65])
    const { xyz } = r.frames[0].points()
    for (let i = 0; i < 300; i++) expect(Math.abs(xyz[i] - shots[2][i])).toBeLessThan(0.001)
    const { at, markers } = r.frames[1]
    for (let i = 0; i < 12; i++) expect(at?.[i]).toBeCloseTo(poses[1][i], 3)
    expect([...markers.xyz, ...markers.diameters].map((v) => Number(v.toFixed(3)))).toEqual([10, 20, 450, 6])
    expect(r.own).toEqual({ mm: 0.5, degrees: 0.1 })
    expect(r.warnings.join()).toMatch(/How well the poses are known is not said/)
  })

  it('range images of a camera become points where it saw them', async () => {
    const camera = { width: 64, height: 64, fx: 100, fy: 110, cx: 30, cy: 33, k1: 0.1 }
    const data = new Uint16Array(64 * 64)
    data[64 * 33 + 30] = 4000
    data[64 * 10 + 50] = 5000
    const png = encode({ width: 64, height: 64, data, depth: 16, channels: 1 })
    const r = await read({ 'a.png': png, 'frames.json': { camera, step: 0.1, noise: 0.1, unit: 'mm', frames: [{ file: 'a.png' }] } })
    const { xyz } = r.frames[0].points()
    // in rows, from the top; beside the axis the lens bends the line of sight, and back through the lens it is the pixel again
    const [x, y, z] = xyz
    expect([...xyz.subarray(3)]).toEqual([0, 0, expect.closeTo(400, 3)])
    const [u, v] = [x / z, y / z]
    const bent = 1 + 0.1 * (u * u + v * v)
    expect([z, 100 * u * bent + 30, 110 * v * bent + 33].map((n) => Number(n.toFixed(2)))).toEqual([500, 50, 10])
  })

  it('frames of which nobody says the unit are asked for it, where it matters, and taken as is said then', async () => {
    const tiny = bare(shots.slice(0, 2), 0.001)
    expect(await refused(tiny)).toMatchObject({ code: 'unit-unknown' })
    expect((await read(tiny, 'm')).frames).toHaveLength(2)
    // what a file says itself holds
    const { xyz } = (await read(plys(shots.slice(0, 2)), 'm')).frames[0].points()
    expect(Math.abs(xyz[2] - shots[0][2])).toBeLessThan(0.001)
    const r = await solve(bare(shots, 0.001), { unit: 'm' })
    expect(offTray((r.outputs['pass'][0] as Item<Points>).data)).toBeLessThan(0.12)
  })

  it('points that lie round the place of the scanner are no frames of it, and that is said', async () => {
    const world = poses.slice(0, 3).map((p, k) => moved(p, shots[k]))
    expect((await read(plys(world))).warnings.join()).toMatch(/coordinates of the scanner/)
    expect((await read(plys(shots.slice(0, 3)))).warnings.join()).not.toMatch(/coordinates of the scanner/)
  })

  it.each<[string, Record<string, Uint8Array | object>, RegExp]>([
    ['nothing in it', { 'readme/': new Uint8Array(0) }, /No frames/],
    ['a list that is none', { 'frames.json': strToU8('{"frames": [') }, /not proper JSON/],
    ['a file that is not there', { 'frames.json': { frames: [{ file: 'gone.ply' }] } }, /not there: gone\.ply/],
    [
      'a pose that is none',
      { 'a.ply': ply(shots[0]), 'frames.json': { frames: [{ file: 'a.ply', pose: Array(12).fill(1) }] } },
      /frames\.0\.pose: this is no turn/,
    ],
    ['eleven numbers', { 'a.ply': ply(shots[0]), 'frames.json': { frames: [{ file: 'a.ply', pose: Array(11).fill(1) }] } }, /twelve numbers/],
    [
      'times that go back',
      {
        ...plys(shots.slice(0, 2)),
        'round/frames.json': {
          frames: [
            { file: 'frame0.ply', time: 5 },
            { file: 'frame1.ply', time: 5 },
          ],
        },
      },
      /Frame 2 is not later/,
    ],
    ['a marker of three numbers', { 'a.ply': ply(shots[0]), 'frames.json': { frames: [{ file: 'a.ply', markers: [1, 2, 3] }] } }, /diameter of each marker/],
    ['a range image without a camera', { 'a.png': encode({ width: 4, height: 4, data: new Uint16Array(16), depth: 16, channels: 1 }) }, /its camera/],
    [
      'a picture',
      {
        'a.png': encode({ width: 64, height: 64, data: new Uint8Array(64 * 64 * 3), channels: 3 }),
        'frames.json': { camera: { width: 64, height: 64, fx: 9, fy: 9, cx: 1, cy: 1 }, step: 1 },
      },
      /in colour/,
    ],
    [
      'an image of another size',
      {
        'a.png': encode({ width: 4, height: 4, data: new Uint16Array(16), depth: 16, channels: 1 }),
        'frames.json': { camera: { width: 64, height: 64, fx: 9, fy: 9, cx: 1, cy: 1 }, step: 1 },
      },
      /4 x 4 px, its camera 64 x 64/,
    ],
    [
      'frames that show nothing',
      {
        'a.png': encode({ width: 64, height: 64, data: new Uint16Array(64 * 64), depth: 16, channels: 1 }),
        'frames.json': { camera: { width: 64, height: 64, fx: 9, fy: 9, cx: 1, cy: 1 }, step: 1 },
      },
      /None of these frames/,
    ],
    ['a bomb', { 'a.xyz': new Uint8Array(90 * 1024 ** 2) }, /unpacks to/],
  ])('is refused in words: %s', async (_, files, words) => expect((await refused(files)).message).toMatch(words))

  it('says which of them is damaged, and that an archive is cut off', async () => {
    const e = await refused({ ...plys(shots.slice(0, 2)), 'round/frame7.ply': strToU8('ply\nformat ascii 1.0\nelement vertex 3\n') })
    expect(`${e.where} ${e.message}`).toMatch(/frame7\.ply/)
    const bytes = zipSync(plys(shots.slice(0, 2)))
    expect(await oakError(readFrames(bytesSource('cut.zip', bytes.subarray(0, bytes.length / 2)), undefined, quietContext))).toMatchObject({
      code: 'bad-archive',
    })
  })

  it('can be cancelled', async () => {
    await expect(readFrames(archive(plys()), undefined, { ...quietContext, signal: { aborted: true } })).rejects.toMatchObject({ code: 'cancelled' })
  })
})

it('scatter of points across their surface is found again: flat, curved, one in twenty far off', () => {
  const r = seeded(4)
  const cloud = (sigma: number, bend: number) =>
    Float32Array.from({ length: 9000 }, (_, i) => {
      const k = Math.floor(i / 3)
      const [x, y] = [k % 60, Math.floor(k / 60)]
      if (i % 3 < 2) return i % 3 ? y : x
      return 400 + bend * (x - 30) ** 2 + sigma * r.gauss() + (k % 20 ? 0 : 3 * r.gauss())
    })
  for (const sigma of [0.02, 0.1]) for (const bend of [0, 1 / 200]) expect(pointNoise([cloud(sigma, bend)]) / sigma).toBeCloseTo(1, 0)
})
