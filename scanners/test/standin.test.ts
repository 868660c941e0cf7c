import { describe, expect, it } from '@jest/globals'
import type { ImageHead, PointsHead } from '@oak-gauge/contract'
import { identity, multiply, transformPoint, translation } from '@oak-gauge/core/base/mat4.ts'
import { fitPlane } from '@oak-gauge/core/clean/plane.ts'
import { ballBarSchema } from '@oak-gauge/core/calibrate/ballbar.ts'
import type { GreyImage } from '@oak-gauge/core/calibrate/image.ts'
import { plateSchema } from '@oak-gauge/core/calibrate/plate.ts'
import { platePose } from '@oak-gauge/core/calibrate/platepose.ts'
import { readPlate } from '@oak-gauge/core/calibrate/readplate.ts'
import { trueOptics } from '@oak-gauge/core/scanner/optics.ts'
import { bodyToLeft, scannerSpec } from '@oak-gauge/core/scanner/spec.ts'
import { BALL_BARS, PLATES } from '../src/artefacts.ts'
import { startClock } from '../src/clock.ts'
import { DEVICES } from '../src/devices.ts'
import { Refusal, StandIn } from '../src/standin.ts'

const MADE = Date.now() - 100 * 86_400_000
/** A stand-in so many ms after it was switched on. */
const standIn = (key: string, ms = 36e6, drops = 0) => new StandIn(DEVICES[key], { drops, made: MADE, calibration: null }, { factor: 1, now: () => ms })
const order = (s: StandIn, m: object): { head: ImageHead | PointsHead; arrays: ArrayBufferView[] }[] => {
  const frames: { head: ImageHead | PointsHead; arrays: ArrayBufferView[] }[] = []
  s.obey({ id: 1, ...m } as never, (head, arrays) => void frames.push({ head, arrays }))
  return frames
}
const images = (s: StandIn): GreyImage[] =>
  order(s, { type: 'image' }).map(({ head, arrays }) => ({
    width: (head as ImageHead).width,
    height: (head as ImageHead).height,
    data: arrays[0] as Uint8Array,
  }))
const ALDER_PLATE = PLATES[2]
const before = (z: number) => Array.from(translation(-108, -72, z))

describe('the workshop’s devices', () => {
  it.each(Object.entries(DEVICES))('%s says what the link asks for, and has a plate and a bar that suit', (_, d) => {
    expect(scannerSpec.parse(JSON.parse(JSON.stringify(d.spec)))).toEqual(d.spec)
    const { near, ideal, far } = d.spec.range
    expect([near < ideal, ideal < far]).toEqual([true, true])
    expect(PLATES.some((p) => p.pitch >= d.spec.platePitch[0] && p.pitch <= d.spec.platePitch[1])).toBe(true)
    expect(BALL_BARS.some((b) => Math.abs(b.distance - d.spec.barLength) < 1)).toBe(true)
  })
  it('names and serial numbers are told apart', () => {
    const all = Object.values(DEVICES)
    expect([new Set(all.map((d) => d.name)).size, new Set(all.map((d) => d.serial)).size, new Set(all.map((d) => d.seed)).size]).toEqual([4, 4, 4])
  })
  it('certificates of the artefacts are sound', () => {
    for (const p of PLATES) expect(plateSchema.parse(JSON.parse(JSON.stringify(p)))).toEqual(p)
    for (const b of BALL_BARS) expect(ballBarSchema.parse(JSON.parse(JSON.stringify(b)))).toEqual(b)
  })
})

describe('a stand-in', () => {
  it('warms up: cold, on its way, warm', () => {
    const at = (minutes: number) => {
      const s = standIn('alder', minutes * 60_000).state()
      return s.type === 'state' ? [s.warm, Math.round(s.celsius * 10) / 10] : []
    }
    expect([at(0), at(4), at(30)]).toEqual([
      [false, 20.6],
      [false, 27.6],
      [true, 31.6],
    ])
  })
  it('its clock may run faster, and begins where it is told to', async () => {
    const c = startClock(1000, 5000)
    await new Promise((r) => setTimeout(r, 20))
    expect([c.now() > 20_000, c.now() < 500_000, startClock(1).now() < 50]).toEqual([true, true, true])
  })
  it('believes what its maker measured until it is calibrated; then what it was given', () => {
    const s = standIn('alder')
    const own = s.hello().calibration
    expect([own.id, own.stereo]).toEqual(['', trueOptics(DEVICES['alder'].spec.design, 417, { celsius: 20.6, days: 0, drops: 0 })])
    order(s, { type: 'use-calibration', calibration: { id: 'c1', stereo: DEVICES['alder'].spec.design } })
    expect([s.hello().calibration.id, s.lasting.calibration?.id]).toEqual(['c1', 'c1'])
  })
  it('shows a plate where it stands; the hand moves the scanner, and so the plate the other way', () => {
    const s = standIn('alder')
    order(s, { type: 'bench', things: [{ kind: 'plate', plate: ALDER_PLATE, pose: before(400) }] })
    // what is seen, judged with the true optics of that state
    const truth = trueOptics(DEVICES['alder'].spec.design, 417, { celsius: Math.round(31.6 / 0.1) * 0.1, days: 100, drops: 0 })
    const where = () => {
      const [l, r] = images(s).map((i) => readPlate(i, ALDER_PLATE))
      return platePose(truth, ALDER_PLATE, l, r)!.pose
    }
    const first = where()
    const wanted = multiply(bodyToLeft(truth), before(400))
    expect(Math.hypot(first[3] - wanted[3], first[7] - wanted[7], first[11] - wanted[11])).toBeLessThan(0.1)
    order(s, { type: 'hand', pose: Array.from(translation(20, 0, -30)) })
    const moved = where()
    const change = multiply(bodyToLeft(truth), multiply(translation(-20, 0, 30), before(400)))
    expect(Math.hypot(moved[3] - change[3], moved[7] - change[7], moved[11] - change[11])).toBeLessThan(0.1)
    order(s, { type: 'hand', pose: Array.from(identity()) })
  })
  it('more exposure, brighter images', () => {
    const s = standIn('alder')
    order(s, { type: 'bench', things: [{ kind: 'plate', plate: ALDER_PLATE, pose: before(400) }] })
    const mean = () => images(s)[0].data.reduce((a, b) => a + b, 0)
    const usual = mean()
    order(s, { type: 'set', exposure: 0.5 })
    expect(mean() / usual).toBeCloseTo(0.5, 1)
    const state = s.state()
    expect(state.type === 'state' && state.exposure).toBe(0.5)
  })
  it('Hazel’s plate turns with her table', () => {
    const s = standIn('hazel')
    order(s, { type: 'bench', things: [{ kind: 'table-plate', plate: PLATES[1] }] })
    const seen = (degrees: number) => {
      order(s, { type: 'turn', degrees })
      return readPlate(images(s)[0], PLATES[1])
    }
    const [a, b] = [seen(-8), seen(16)]
    expect([a.trouble, b.trouble]).toEqual([null, null])
    expect(Math.abs(a.pixels[0] - b.pixels[0])).toBeGreaterThan(5)
  })
  it('Rowan’s arm leads the line over one sphere after the other, and says where it was', () => {
    const s = standIn('rowan')
    order(s, { type: 'bench', things: [{ kind: 'bar', bar: BALL_BARS[0], pose: Array.from(translation(0, 0, 130)) }] })
    const frames = order(s, { type: 'shot', frames: 10 }).map((f) => f.head as PointsHead)
    const x = frames.map((f) => f.pose![3])
    expect([frames.length, frames.filter((f) => f.count > 30).length >= 6]).toEqual([10, true])
    expect([x.slice(0, 5).every((v) => v < -100), x.slice(5).every((v) => v > 100)]).toEqual([true, true])
  })
  it('the same state and order give the same frames', () => {
    const shot = () => {
      const s = standIn('birch')
      order(s, { type: 'bench', things: [{ kind: 'bar', bar: BALL_BARS[0], pose: Array.from(translation(0, 0, 620)) }] })
      return order(s, { type: 'shot', frames: 1 })[0].arrays[0] as Float32Array
    }
    const [a, b] = [shot(), shot()]
    expect([a.length > 3000, Buffer.from(a.buffer).equals(Buffer.from(b.buffer))]).toEqual([true, true])
  })
  it.each<[string, object, string]>([
    ['a pattern it does not have', { type: 'set', pattern: 'spiral' }, 'no-such-pattern'],
    ['a table it does not have', { type: 'turn', degrees: 4 }, 'no-turntable'],
    ['capturing without a part', { type: 'mode', mode: 'record' }, 'no-part'],
    ['a thing it does not know', { type: 'bench', things: [{ kind: 'anvil' }] }, 'bad-bench'],
  ])('refuses %s', (_, m, code) => {
    try {
      order(standIn('alder'), m)
    } catch (e) {
      expect([e instanceof Refusal, (e as Refusal).code]).toEqual([true, code])
      return
    }
    throw new Error('was carried out')
  })
  it('streams only in images', () => {
    const s = standIn('alder')
    expect(s.streaming).toBe(false)
    order(s, { type: 'mode', mode: 'images' })
    expect(s.streaming).toBe(true)
    order(s, { type: 'mode', mode: 'idle' })
    expect(s.streaming).toBe(false)
  })
})

describe('markers before a stand-in', () => {
  const list = {
    kind: 'markers',
    positions: [0, 0, 0, 60, 10, 0, -40, 35, 0, 20, -55, 0],
    normals: [0, 0, 1, 0, 0, 1, 0, 0, 1, 0, 0, 1],
    diameters: [6, 6, 3, 6],
  }
  const seen = (s: StandIn) => {
    const out: { head: PointsHead; markers: Float32Array }[] = []
    s.markers((head, arrays) => void out.push({ head: head as PointsHead, markers: (arrays[1] as Float32Array | undefined) ?? new Float32Array(0) }))
    return out[0]
  }
  // body 400 mm over the table, looking straight down: z of the body is down
  const overhead = [1, 0, 0, 0, 0, -1, 0, 0, 0, 0, -1, 400, 0, 0, 0, 1]

  it('are looked at only where there are some, and refused otherwise', () => {
    const s = standIn('alder')
    expect(() => order(s, { type: 'mode', mode: 'aim' })).toThrow(Refusal)
    order(s, { type: 'bench', things: [list] })
    order(s, { type: 'mode', mode: 'aim' })
    expect(s.aiming).toBe(true)
    order(s, { type: 'mode', mode: 'idle' })
    expect(s.aiming).toBe(false)
    expect(() => order(s, { type: 'bench', things: [{ kind: 'markers', positions: 'x' }] })).toThrow(Refusal)
  })

  it('keep their distances, whatever the hand does', () => {
    const s = standIn('alder')
    s.lasting.calibration = { id: 'c', stereo: trueOptics(s.device.spec.design, s.device.seed, { celsius: 31.6, days: 100, drops: 0 }) }
    order(s, { type: 'bench', things: [list] })
    for (const shift of [0, 30]) {
      const hand = overhead.slice()
      hand[3] = shift
      order(s, { type: 'hand', pose: hand })
      let tries = 0
      // one of four may be missed in a frame
      let f = seen(s)
      while (f.markers.length < 16 && tries++ < 30) f = seen(s)
      expect(f.head).toMatchObject({ kind: 'points', count: 0, markers: 4 })
      const d = Math.hypot(...[0, 1, 2].map((k) => f.markers[k] - f.markers[4 + k]))
      expect(d).toBeCloseTo(Math.hypot(60, 10), 0)
      expect(Math.abs(d - Math.hypot(60, 10))).toBeLessThan(0.15)
      expect(f.markers[3]).toBeCloseTo(6, 0)
    }
  })

  it('are hidden by a body that stands over them', () => {
    const s = standIn('alder')
    order(s, { type: 'hand', pose: overhead })
    const roof = { kind: 'solid', vertices: [-30, -30, 20, 30, -30, 20, 30, 30, 20, -30, 30, 20], triangles: [0, 1, 2, 0, 2, 3] }
    order(s, { type: 'bench', things: [list, roof] })
    for (let k = 0; k < 10; k++) {
      const { markers } = seen(s)
      for (let i = 0; i < markers.length; i += 4) expect(Math.hypot(markers[i] - 0, markers[i + 2] - 400)).toBeGreaterThan(3)
    }
  })

  it('on a turntable come round', () => {
    const s = standIn('hazel')
    order(s, { type: 'bench', things: [{ ...list, positions: list.positions.map((v) => 0.7 * v) }] })
    const at = (degrees: number) => {
      order(s, { type: 'turn', degrees })
      let f = seen(s)
      for (let k = 0; k < 30 && f.markers.length < 16; k++) f = seen(s)
      return f.markers
    }
    const [a, b, c] = [at(0), at(90), at(360)]
    expect([a.length, b.length]).toEqual([16, 16])
    // the one in the middle stays, the others move
    expect(Math.hypot(a[0] - b[0], a[1] - b[1], a[2] - b[2])).toBeLessThan(0.3)
    expect(Math.hypot(a[4] - b[4], a[5] - b[5], a[6] - b[6])).toBeGreaterThan(20)
    expect(Math.hypot(a[4] - c[4], a[5] - c[5], a[6] - c[6])).toBeLessThan(0.3)
  })
})

describe('a stand-in that records', () => {
  // a table of 200 x 160 mm under the scanner, and a step on it
  const [w, h] = [100, 80]
  const solid = {
    kind: 'solid',
    vertices: [-w, -h, 0, w, -h, 0, w, h, 0, -w, h, 0, -20, -20, 15, 20, -20, 15, 20, 20, 15, -20, 20, 15],
    triangles: [0, 1, 2, 0, 2, 3, 4, 5, 6, 4, 6, 7],
  }
  const overhead = (x = 0) => [1, 0, 0, x, 0, -1, 0, 0, 0, 0, -1, 400, 0, 0, 0, 1]
  const markers = { kind: 'markers', positions: [60, 40, 0, -60, 35, 0], normals: [0, 0, 1, 0, 0, 1], diameters: [6, 6] }
  const take = (s: StandIn) => {
    const out: { head: PointsHead; arrays: ArrayBufferView[] }[] = []
    s.record((head, arrays) => void out.push({ head: head as PointsHead, arrays }))
    return out[0]
  }
  it('measures what stands there many times a second, with the markers it sees; in shots only where it must stand still', () => {
    const s = standIn('alder')
    expect(() => order(s, { type: 'mode', mode: 'record' })).toThrow(Refusal)
    order(s, { type: 'bench', things: [solid, markers] })
    order(s, { type: 'hand', pose: overhead() })
    order(s, { type: 'mode', mode: 'record' })
    expect([s.recording, s.aiming]).toEqual([true, false])
    const { head, arrays } = take(s)
    const xyz = arrays[0] as Float32Array
    expect([head.count > 1000, xyz.length / 3, (arrays[1] as Uint8Array).length, head.markers]).toEqual([true, head.count, head.count, 2])
    expect((arrays[2] as Float32Array).length).toBe(8)
    const hazel = standIn('hazel')
    order(hazel, { type: 'bench', things: [solid] })
    expect(() => order(hazel, { type: 'mode', mode: 'record' })).toThrow('standing still')
  })
  it('on a turntable takes shots, with pauses, and says where it was: counter-clockwise with growing angle, and a little off', () => {
    const s = standIn('hazel')
    s.lasting.calibration = { id: 'c', stereo: trueOptics(s.device.spec.design, s.device.seed, { celsius: 34.6, days: 100, drops: 0 }) }
    order(s, { type: 'bench', things: [solid, markers] })
    const shots = [0, 30, 90].map((degrees) => {
      order(s, { type: 'turn', degrees })
      const out: { head: PointsHead; arrays: ArrayBufferView[] }[] = []
      let pauses = 0
      for (const _ of s.shotFrame(0, 1, (head, arrays) => void out.push({ head: head as PointsHead, arrays }))) pauses++
      expect([out.length, pauses > 4]).toEqual([1, true])
      return out[0]
    })
    const azimuths = shots.map(({ head }) => (Math.atan2(head.pose![7], head.pose![3]) * 180) / Math.PI)
    const gone = (k: number) => (azimuths[k] - azimuths[0] + 720) % 360
    expect([gone(1), gone(2)].map((v) => Math.round(10 * v) / 10)).toEqual([30, 90])
    for (const { head, arrays } of shots) {
      const [xyz, intensity] = arrays as [Float32Array, Uint8Array]
      expect([head.count > 30_000, xyz.length / 3, intensity.length]).toEqual([true, head.count, head.count])
      // the step and the table, as the stage has them
      let [high, low] = [0, 0]
      for (let i = 0; i < xyz.length; i += 3) {
        const [, , z] = transformPoint(head.pose!, xyz[i], xyz[i + 1], xyz[i + 2])
        if (Math.abs(z - 15) < 1) high++
        else if (Math.abs(z) < 1) low++
      }
      expect([high > 2000, low > 20_000, high + low > 0.99 * head.count]).toEqual([true, true, true])
    }
  })
  it('on an arm says with each line where it was, to some micrometres', () => {
    const s = standIn('rowan')
    s.lasting.calibration = { id: 'c', stereo: trueOptics(s.device.spec.design, s.device.seed, { celsius: 26.6, days: 100, drops: 0 }) }
    order(s, { type: 'bench', things: [solid] })
    order(s, { type: 'mode', mode: 'record' })
    order(s, { type: 'hand', pose: [1, 0, 0, 10, 0, -1, 0, 5, 0, 0, -1, 135, 0, 0, 0, 1] })
    const { head, arrays } = take(s)
    expect(head.count).toBeGreaterThan(300)
    const heights: number[] = []
    const xyz = arrays[0] as Float32Array
    for (let i = 0; i < xyz.length; i += 3) heights.push(transformPoint(head.pose!, xyz[i], xyz[i + 1], xyz[i + 2])[2])
    expect(heights.every((z) => Math.abs(z - 15) < 0.15 || Math.abs(z) < 0.15)).toBe(true)
    const again = take(s).head.pose!
    const off = Math.hypot(...[3, 7, 11].map((i) => head.pose![i] - again[i]))
    expect([off > 1e-4, off < 0.06]).toEqual([true, true])
  })
  it('is smeared by what it moves while a frame is exposed', () => {
    const heights = (step: number) => {
      let now = 36e6
      const s = new StandIn(DEVICES['birch'], { drops: 0, made: MADE, calibration: null }, { factor: 1, now: () => (now += 60) })
      s.lasting.calibration = { id: 'c', stereo: trueOptics(s.device.spec.design, s.device.seed, { celsius: 28.6, days: 100, drops: 0 }) }
      order(s, { type: 'bench', things: [solid] })
      // askew, and towards the table
      const tilt = Float64Array.of(0.8, 0, -0.6, 0, 0, -1, 0, 0, -0.6, 0, -0.8, 0, 0, 0, 0, 1)
      for (let k = 0; ; k++) {
        order(s, { type: 'hand', pose: Array.from(multiply(translation(360, 0, 480 + step * k), tilt)) })
        if (k === 0) order(s, { type: 'mode', mode: 'record' })
        const { arrays } = take(s)
        if (k < 2) continue
        return fitPlane(arrays[0] as Float32Array).sigma
      }
    }
    const [still, fast] = [heights(0), heights(60)]
    expect([still < 0.25, fast > 2 * still]).toEqual([true, true])
  })
})
