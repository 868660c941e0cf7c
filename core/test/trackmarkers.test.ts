import { describe, expect, it } from '@jest/globals'
import { identity, invertRigid, multiply, rotateVector, rotationVector, transformPoint, type Mat4 } from '../src/base/mat4.ts'
import { seeded } from '../src/base/random.ts'
import { choleskySolve, cholesky } from '../src/base/solve.ts'
import { liveTracker, type LiveFrame, type LiveOptions, type LiveState } from '../src/capture/livetracker.ts'
import { markerTracker, type KnownMarkers } from '../src/capture/trackmarkers.ts'
import { plainMesh } from '../src/markers/plan/shape.ts'
import { stereoSight } from '../src/markers/sight.ts'
import { MATERIALS, type Thing } from '../src/scanner/scene.ts'
import { lookingAt, seeMarkers } from '../src/scanner/seemarkers.ts'
import { takeShot } from '../src/scanner/shot.ts'
import { designedStereo, type ScannerSpec } from '../src/scanner/spec.ts'
import { transformMesh, type Mesh } from '../src/shape/mesh.ts'
import { buildBvh } from '../src/space/bvh.ts'
import { boxMesh } from './help.ts'
import { at, together, tray } from './tray.ts'

const optics = designedStereo({ width: 640, height: 480, focal: 700, baseline: 150, crossing: 450 })
const spec = { design: optics, range: { near: 300, ideal: 450, far: 700 } } as unknown as ScannerSpec
const sight = stereoSight(optics)
const EVERY = 60

/** Markers on the table round the part, some on blocks: no two distances alike. */
function stuck(seed = 5): { positions: number[]; normals: number[]; diameters: number[] } {
  const r = seeded(seed)
  const positions: number[] = []
  while (positions.length < 3 * 26) {
    const [x, y] = [300 * (r.next() - 0.5), 260 * (r.next() - 0.5)]
    if (Math.abs(x) < 90 && Math.abs(y) < 65) continue
    positions.push(x, y, r.next() < 0.4 ? 25 * r.next() : -8)
  }
  return { positions, normals: positions.map((_, i) => (i % 3 === 2 ? 1 : 0)), diameters: positions.filter((_, i) => i % 3 === 0).map(() => 6) }
}
/** as a map knows them: each off by chance, and saying by how much */
function mapOf(m: ReturnType<typeof stuck>, sigma: number, seed = 8): KnownMarkers {
  const r = seeded(seed)
  return { ...m, positions: m.positions.map((v) => v + sigma * r.gauss()), sigma: m.diameters.map(() => sigma) }
}
const hand = (degrees: number, x = 0, y = 0, away = 450, up = 55, roll = 0): Mat4 => {
  const [a, e] = [degrees, up].map((d) => (d * Math.PI) / 180)
  return lookingAt([x + away * Math.cos(e) * Math.cos(a), y + away * Math.cos(e) * Math.sin(a), away * Math.sin(e)], [x, y, 0], roll)
}
const seeMarkersAt = (pose: Mat4, seed: number, m = stuck(), noise = 0.02) => seeMarkers(spec, optics, optics, m, [], { pose, seed, noise })
const arc = (from: number, to: number, n: number) => Array.from({ length: n }, (_, k) => hand(from + ((to - from) * k) / (n - 1)))

describe('frames placed by markers of a map', () => {
  it.each([
    ['sightings noisier than the map', 0.05, 0.003, 0.03],
    ['a map worse than the sightings', 0.02, 0.04, 0.03],
    ['noise stated twice too small', 0.06, 0.003, 0.03],
  ])('states what it does not know: %s', (_, noise, sigma, stated) => {
    // the map's own errors are the same in all frames of one map: many maps
    let [squares, count, sum] = [0, 0, 0]
    for (let k = 0; k < 40; k++) {
      const tracker = markerTracker(mapOf(stuck(), sigma, 50 + k), { sight, noise: stated })
      for (let f = 0; f < 10; f++) {
        const truth = hand(37 * k + 36 * f, 20, -10, 400 + 40 * (k % 4), 45 + 2 * f, 10 * f)
        const got = tracker.lay(
          seeMarkersAt(truth, 100 * k + f, stuck(), noise),
          multiply(truth, Float64Array.of(1, 0, 0, 1, 0, 1, 0, -1, 0, 0, 1, 1, 0, 0, 0, 1)),
        )!
        if (f < 5) continue
        // the surface against the scanner, turn and shift in its axes
        const d = multiply(invertRigid(truth), got.pose)
        const e = [...rotationVector(d), d[3], d[7], d[11]]
        const solved = choleskySolve(cholesky(got.covariance, 6)!, e, 6)
        squares += e.reduce((s, v, i) => s + v * solved[i], 0)
        count += 6
        // at the part
        const p = transformPoint(d, 0, 0, 450)
        sum += Math.hypot(p[0], p[1], p[2] - 450) ** 2 / 3
      }
    }
    const normalised = Math.sqrt(squares / count)
    expect([normalised > 0.85, normalised < 1.2, normalised]).toEqual([true, true, normalised])
    expect(Math.sqrt((3 * sum) / count) * Math.SQRT2).toBeLessThan(0.06)
  })
  it('finds the place from nothing, and none among other markers', () => {
    const tracker = markerTracker(mapOf(stuck(), 0.01), { sight })
    const truth = hand(130, 10, 5, 430, 60, 140)
    const got = tracker.find(seeMarkersAt(truth, 3))!
    expect(Math.hypot(...[3, 7, 11].map((k) => got.pose[k] - truth[k]))).toBeLessThan(0.3)
    expect(tracker.find(seeMarkersAt(truth, 3, stuck(77)))).toBeUndefined()
    expect(tracker.lay(seeMarkersAt(truth, 3), hand(100))).toBeUndefined()
    expect(tracker.lay({ xyz: [0, 0, 450, 1, 0, 450, 2, 0, 450], diameters: [6, 6, 6] }, truth)).toBeUndefined()
  })
})

/** Records along poses: what is seen of a part and of the markers at each; gives how far what was placed is off, mm at the part's corners. */
function record(
  poses: (Mat4 | null)[],
  o: Partial<LiveOptions> = {},
  scene: { part?: (k: number) => Mesh; stride?: number; blind?: (k: number) => boolean; few?: (k: number) => boolean } = {},
) {
  const thing = (mesh: Mesh): Thing => ({ kind: 'mesh', mesh, bvh: buildBvh(mesh, 'median'), pose: identity(), material: MATERIALS.matte })
  const things = new Map<Mesh, Thing>()
  const m = stuck()
  const tracker = liveTracker({ spacing: 2, noise: 0.08, markers: { map: mapOf(m, 0.005), sight, noise: 0.02 }, ...o })
  const said: LiveState[] = []
  const truth = new Map<number, Mat4>()
  poses.forEach((pose, k) => {
    const time = k * EVERY
    let frame: LiveFrame = { time, xyz: new Float32Array(0) }
    if (pose) {
      truth.set(time, pose)
      const mesh = scene.part?.(k) ?? tray
      if (!things.has(mesh)) things.set(mesh, thing(mesh))
      const { xyz } = takeShot(spec, optics, optics, [things.get(mesh)!], {
        pose,
        pattern: 'area',
        exposure: 1,
        stride: scene.stride ?? 4,
        noise: 0.03,
        seed: 77 + k,
      })
      const seen = seeMarkersAt(pose, 9 + k)
      frame = {
        time,
        xyz,
        markers: scene.blind?.(k) ? { xyz: [], diameters: [] } : scene.few?.(k) ? { xyz: seen.xyz.slice(0, 9), diameters: seen.diameters.slice(0, 3) } : seen,
      }
    }
    said.push(tracker.feed(frame))
  })
  const entered = said.flatMap((s) => s.entered).concat(tracker.finish())
  const off = entered.map(({ time, pose }) => {
    const e = multiply(pose, invertRigid(truth.get(time)!))
    return Math.max(
      ...[-60, 60].flatMap((x) =>
        [-40, 40].map((y) => {
          const p = transformPoint(e, x, y, 10)
          return Math.hypot(p[0] - x, p[1] - y, p[2] - 10)
        }),
      ),
    )
  })
  return { said, entered, off, largest: Math.max(0, ...off), tracker }
}

describe('recording by markers', () => {
  it('is found on the map, lies in its axes, and stays out of the surface until then', () => {
    const { said, largest, tracker } = record(arc(0, 60, 40))
    expect(said.slice(0, 6).map((s) => s.state)).toEqual(['finding', 'finding', 'finding', 'finding', 'steady', 'steady'])
    expect(said.slice(4).every((s) => s.state === 'steady' && s.held)).toBe(true)
    expect([tracker.frames(), largest < 0.1]).toEqual([40, true])
  })
  it('a part that most frames miss: those that see nothing of it are held as well, and lose nothing', () => {
    const cube = at(boxMesh(4, 4, 4), -2, -2, 0)
    const none = at(boxMesh(4, 4, 4), 2000, 0, 0)
    const { said, largest, tracker } = record(arc(0, 30, 20), {}, { part: (k) => (k % 3 ? none : cube), stride: 2 })
    expect(said.slice(4).every((s) => s.state === 'steady')).toBe(true)
    expect([tracker.frames(), largest < 0.1]).toEqual([20, true])
    expect(said.at(-2)!.laid!.sigmas.every((s) => s > 0 && s < 0.3)).toBe(true)
  })
  it('a plate alone, which no shape holds, is recorded', () => {
    const plate = at(boxMesh(180, 130, 8), -90, -65, -8)
    const { said, largest, tracker } = record(arc(0, 30, 20), {}, { part: () => plate })
    expect(said.at(-1)!.state).toBe('steady')
    expect([tracker.frames(), largest < 0.1]).toEqual([20, true])
  })
  it('torn away and led back from another side it is found by the constellation, and what waited with markers in view is placed', () => {
    const { said, largest, tracker } = record([...arc(0, 20, 12), hand(60, 40, 30), null, null, ...arc(170, 190, 14)])
    expect(said.slice(12, 15).every((s) => s.entered.length === 0 && (s.state === 'lost' || s.state === 'finding'))).toBe(true)
    expect(said.at(-1)!.state).toBe('steady')
    // all but those in the dark
    expect([tracker.frames(), said.at(-1)!.span, largest < 0.1]).toEqual([27, 1, true])
  })
  it('a part that is knocked against does not lie on what was recorded: nothing more enters, and it is said', () => {
    const moved = transformMesh(tray, Float64Array.of(1, 0, 0, 1.5, 0, 1, 0, 0.8, 0, 0, 1, 0.6, 0, 0, 0, 1))
    const { said, tracker } = record(arc(0, 30, 40), {}, { part: (k) => (k < 24 ? tray : moved) })
    expect(said.slice(4, 24).every((s) => s.state === 'steady')).toBe(true)
    expect(said.slice(24).every((s) => s.state === 'weak' && (s.why === 'off' || s.why === 'hidden'))).toBe(true)
    expect([tracker.frames(), said.at(-1)!.contradicts]).toEqual([24, 16])
  })
  it('nor does a small part on a large table that lies still', () => {
    // what lies on it is a tenth of what is seen: nine tenths fit
    const on = (x: number) => together([at(boxMesh(180, 130, 8), -90, -65, -8), at(boxMesh(60, 50, 30), -30 + x, -25, 0)])
    const [before, after] = [on(0), on(2)]
    const { said, tracker } = record(arc(0, 24, 36), {}, { part: (k) => (k < 24 ? before : after), stride: 3 })
    expect(said.slice(4, 24).every((s) => s.state === 'steady')).toBe(true)
    expect(said.slice(24).every((s) => s.state === 'weak' && s.why === 'off')).toBe(true)
    expect([tracker.frames(), said.at(-1)!.contradicts]).toEqual([24, 12])
  })
  it('what was contradicted has to be seen again as it was: out of sight it is not forgotten, put back it goes on', () => {
    // a round one, knocked across what is seen: led on along that way, its sides show less and less of it
    const plate = at(boxMesh(180, 130, 8), -90, -65, -8)
    const round = (x: number) => together([plate, at(plainMesh({ kind: 'cylinder', diameter: 56, height: 70 }), x, 0, 0)])
    const [before, after] = [round(0), round(1.6)]
    const way = [...arc(60, 80, 24), ...arc(81, 175, 96)]
    const gone = record(way, {}, { part: (k) => (k < 24 ? before : after), stride: 3 })
    const why = gone.said.slice(24).map((s) => s.why)
    expect(why.slice(0, 5).every((w) => w === 'off' || w === 'hidden')).toBe(true)
    expect(why.filter((w) => w === 'moved').length).toBeGreaterThan(10)
    expect([gone.tracker.frames(), gone.largest < 0.1]).toEqual([24, true])
    // put back, and led over it once more
    const back = record([...arc(60, 80, 24), ...arc(80, 70, 10), ...arc(70, 110, 40)], {}, { part: (k) => (k < 24 || k >= 34 ? before : after), stride: 3 })
    expect(back.said.slice(24, 34).every((s) => !s.entered.length)).toBe(true)
    expect(back.said[34].why).toBe('moved')
    expect(back.said.slice(44).every((s) => s.state === 'steady')).toBe(true)
    expect(back.largest).toBeLessThan(0.1)
  })
})

describe('recording by markers and shape together', () => {
  const both = { by: 'both' as const }
  it('is as near as by markers, and goes on by shape where fewer than four are seen', () => {
    const way = arc(0, 60, 40)
    const alone = record(way, {}, { few: (k) => k > 16 && k < 30 })
    const { said, largest, tracker } = record(way, both, { few: (k) => k > 16 && k < 30 })
    expect(alone.said.slice(17, 30).some((s) => s.state === 'steady')).toBe(false)
    expect(said.slice(4).every((s) => s.state === 'steady')).toBe(true)
    expect(said.slice(17, 30).every((s) => !s.held)).toBe(true)
    expect([tracker.frames(), largest < 0.15]).toEqual([40, true])
  })
  it('what is held besides its shape is held along what the shape says nothing of', () => {
    const plate = at(boxMesh(180, 130, 8), -90, -65, -8)
    const { said, largest } = record(arc(0, 30, 20), both, { part: () => plate })
    expect(said.at(-1)!.state).toBe('steady')
    expect(Math.max(...said.at(-1)!.laid!.sigmas)).toBeLessThan(0.1)
    expect(largest).toBeLessThan(0.1)
  })
})

it('markers that are to hold frames must be there', () => {
  expect(() => liveTracker({ spacing: 2, noise: 0.08, by: 'both' })).toThrow('there are none')
  expect(rotateVector(identity(), 0, 0, 1)).toEqual([0, 0, 1])
})
