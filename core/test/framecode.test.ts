import { describe, expect, it } from '@jest/globals'
import { deflateRawSync } from 'node:zlib'
import { seeded } from '../src/base/random.ts'
import { COARSEST_STEP, decodeFrame, encodeFrame, roundFrame } from '../src/capture/framecode.ts'

/** A wavy surface seen row by row, with the noise of a scanner. */
function frame(rows: number, columns: number, noise: number, offset = 0): Float32Array {
  const random = seeded(5)
  const xyz = new Float32Array(3 * rows * columns)
  for (let r = 0; r < rows; r++)
    for (let c = 0; c < columns; c++)
      xyz.set(
        [offset + 0.6 * c + 0.3 * noise * random.gauss(), 0.6 * r + 0.3 * noise * random.gauss(), 400 + 8 * Math.sin(c / 9) + noise * random.gauss()],
        3 * (r * columns + c),
      )
  return xyz
}

describe('a frame as bytes', () => {
  it('comes back as it was rounded, to the last bit, with and without intensity, near and 3 m out', () => {
    for (const offset of [0, 3000]) {
      const xyz = roundFrame(frame(40, 50, 0.05, offset), 0.0123456)
      const intensity = Uint8Array.from({ length: 2000 }, (_, i) => (i * 7919) % 256)
      expect(decodeFrame(encodeFrame({ xyz, intensity }, 0.0123456))).toEqual({ xyz, intensity })
      expect(decodeFrame(encodeFrame({ xyz }, 0.0123456))).toEqual({ xyz })
    }
    for (const n of [0, 1, 2]) {
      const xyz = roundFrame(frame(1, n, 0.05), 0.01)
      expect(decodeFrame(encodeFrame({ xyz }, 0.01)).xyz).toEqual(xyz)
    }
  })
  it('rounding moves nothing by more than half a step; a step that is too coarse is the coarsest', () => {
    const xyz = frame(20, 20, 0.05)
    for (const [step, least] of [
      [0.004, 0.004],
      [1, COARSEST_STEP],
    ]) {
      const r = roundFrame(xyz, step)
      expect(Math.max(...xyz.map((v, i) => Math.abs(v - r[i])))).toBeLessThan(0.51 * least)
      expect(decodeFrame(encodeFrame({ xyz: r }, step)).xyz).toEqual(r)
    }
  })
  it('jumps, strays and any order cost bytes, not truth', () => {
    const random = seeded(9)
    const xyz = roundFrame(
      Float32Array.from({ length: 900 }, () => 2000 * random.gauss()),
      0.01,
    )
    expect(decodeFrame(encodeFrame({ xyz }, 0.01)).xyz).toEqual(xyz)
  })
  it('takes under four bytes a point of a scanner with 0.03 mm noise, deflated', () => {
    const xyz = roundFrame(frame(100, 100, 0.03), 0.0075)
    expect(deflateRawSync(encodeFrame({ xyz }, 0.0075)).length / 10_000).toBeLessThan(4)
  })
  it('refuses what is no number, and bytes that are not whole', () => {
    expect(() => roundFrame(Float32Array.of(1, NaN, 2), 0.01)).toThrow('NaN')
    expect(() => roundFrame(Float32Array.of(1, Infinity, 2), 0.01)).toThrow('Infinity')
    const bytes = encodeFrame({ xyz: roundFrame(frame(5, 5, 0.05), 0.01) }, 0.01)
    for (const cut of [0, 5, 12, bytes.length - 1]) expect(() => decodeFrame(bytes.subarray(0, cut))).toThrow('cannot be read')
    const other = bytes.slice()
    other[0] = 9
    expect(() => decodeFrame(other)).toThrow('version 9')
    const escaped = bytes.slice()
    escaped[40] = 255
    expect(() => decodeFrame(escaped)).toThrow(/cannot be read/)
  })
})
