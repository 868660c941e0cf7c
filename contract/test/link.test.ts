import { describe, expect, test } from '@jest/globals'
import {
  addScanner,
  benchThing,
  fromScanner,
  handRequest,
  imageHead,
  LINK_TIMES,
  packFrame,
  pointsHead,
  startCalibration,
  toScanner,
  unpackFrame,
} from '../src/index.ts'

const IDENTITY = [1, 0, 0, 0, 0, 1, 0, 0, 0, 0, 1, 0, 0, 0, 0, 1]
const state = { type: 'state', time: 1000, celsius: 21, room: 20, warm: false, mode: 'idle', exposure: 1, pattern: 'line' }

describe('messages of the scanner link', () => {
  test.each<[string, unknown, boolean]>([
    ['state', state, true],
    ['state of a turntable', { ...state, turn: 45 }, true],
    ['a state without a room', { ...state, room: undefined }, false],
    ['a time before switching on', { ...state, time: -1 }, false],
    ['a mode that is none', { ...state, mode: 'sing' }, false],
    ['an exposure of nothing', { ...state, exposure: 0 }, false],
    ['done', { type: 'done', id: 3 }, true],
    ['done without a number', { type: 'done' }, false],
    ['refused', { type: 'refused', id: 3, code: 'no-turntable', message: 'none' }, true],
    ['shock', { type: 'event', event: 'shock', time: 4 }, true],
    ['an event that is none', { type: 'event', event: 'lunch', time: 4 }, false],
    ['something else', { type: 'hallo' }, false],
    ['a list', [], false],
  ])('from the scanner: %s', (_, m, good) => expect(fromScanner.safeParse(m).success).toBe(good))

  test.each<[string, unknown, boolean]>([
    ['welcome', { type: 'welcome', protocol: 1, program: 'Oak Gauge' }, true],
    ['welcome of another protocol', { type: 'welcome', protocol: 2, program: 'Oak Gauge' }, false],
    ['credit', { type: 'credit', frames: 6 }, true],
    ['no credit', { type: 'credit', frames: 0 }, false],
    ['set nothing', { type: 'set', id: 1 }, true],
    ['set an exposure below nothing', { type: 'set', id: 1, exposure: -2 }, false],
    ['shot', { type: 'shot', id: 1, frames: 16 }, true],
    ['too many frames', { type: 'shot', id: 1, frames: 2000 }, false],
    ['turn', { type: 'turn', id: 1, degrees: -44 }, true],
    ['turn twice around', { type: 'turn', id: 1, degrees: 720 }, false],
    ['hand', { type: 'hand', id: 1, pose: IDENTITY }, true],
    ['half a hand', { type: 'hand', id: 1, pose: [1, 0] }, false],
    ['drop', { type: 'drop', id: 1 }, true],
    ['a command without a number', { type: 'image' }, false],
  ])('to the scanner: %s', (_, m, good) => expect(toScanner.safeParse(m).success).toBe(good))

  test('what may stand on a stand-in’s bench', () => {
    expect(benchThing.safeParse({ kind: 'plate', plate: {}, pose: IDENTITY }).success).toBe(true)
    expect(benchThing.safeParse({ kind: 'table-plate', plate: {} }).success).toBe(true)
    expect(benchThing.safeParse({ kind: 'bar', bar: {} }).success).toBe(false)
  })
  test('silence lasts longer than two states', () => expect(LINK_TIMES.silence).toBeGreaterThan(2000))
})

describe('frames', () => {
  const points = pointsHead.parse({ kind: 'points', sequence: 1, time: 0, count: 2, intensity: false, colour: false, markers: 0 })
  test('arrays begin at multiples of four, whatever the head’s length', () => {
    for (let k = 0; k < 8; k++) {
      const head = imageHead.parse({ kind: 'image', sequence: 10 ** k, time: 0, side: 'right', width: 3, height: 1 })
      const f = unpackFrame(packFrame(head, [Uint8Array.of(7, 8, 9)]))
      expect(f.kind === 'image' && [f.sequence, ...f.data]).toEqual([10 ** k, 7, 8, 9])
    }
  })
  test('a frame inside of a larger buffer is read by itself', () => {
    const packed = packFrame(points, [Float32Array.of(1, 2, 3, 4, 5, 6)])
    const larger = new Uint8Array(packed.length + 13)
    larger.set(packed, 13)
    const f = unpackFrame(larger.subarray(13))
    expect(f.kind === 'points' && [...f.xyz]).toEqual([1, 2, 3, 4, 5, 6])
  })
  test('optional arrays come only when the head says so', () => {
    const f = unpackFrame(packFrame({ ...points, intensity: true }, [new Float32Array(6), Uint8Array.of(1, 2)]))
    expect(f.kind === 'points' && [f.brightness?.length, f.rgb, f.seenMarkers]).toEqual([2, undefined, undefined])
  })
  test('a head that claims more points than there are, or a negative number of them', () => {
    const packed = packFrame({ ...points, count: 3 }, [new Float32Array(6)])
    expect(() => unpackFrame(packed)).toThrow('ends 12 bytes too early')
    expect(() => unpackFrame(packFrame({ ...points, count: -1 }, []))).toThrow()
  })
  test('any byte changed is an error or another frame, never a crash of another kind', () => {
    const packed = packFrame(points, [Float32Array.of(1, 2, 3, 4, 5, 6)])
    for (let i = 0; i < packed.length; i++) {
      const spoilt = packed.slice()
      spoilt[i] ^= 0x55
      try {
        expect(['image', 'points']).toContain(unpackFrame(spoilt).kind)
      } catch (e) {
        expect(e).toBeInstanceOf(Error)
      }
    }
  })
})

describe('requests about scanners', () => {
  test('an address', () => {
    expect(addScanner.parse({ address: '  ws://10.0.0.4:4190 ' })).toEqual({ address: 'ws://10.0.0.4:4190' })
    expect(addScanner.safeParse({ address: 'http://10.0.0.4' }).success).toBe(false)
  })
  test('the hand moves by what is named, and not by miles', () => {
    expect(handRequest.parse({ away: 12 })).toEqual({ away: 12, right: 0, down: 0, topAway: 0, rightAway: 0, turn: 0 })
    expect(handRequest.safeParse({ away: 5000 }).success).toBe(false)
  })
  test('a calibration is warm unless said otherwise', () => {
    const plate = '6f1c0f3e-7a60-4a0c-9d6e-0d4a7c1f9b10'
    expect(startCalibration.parse({ plate, way: 'hand' })).toEqual({ plate, way: 'hand', cold: false })
    expect(startCalibration.safeParse({ plate, way: 'dance' }).success).toBe(false)
  })
})
