import { deflateRawSync, inflateRawSync } from 'node:zlib'

export interface MarkerFrame {
  /** of the scanner's clock, ms */
  time: number
  /** x, y, z, diameter of each, scanner coordinates, mm */
  markers: number[]
}

/** mm to which sightings are rounded: a hundredth of their noise */
export const QUANTUM = 1e-4
/** As stored: what is tracked now and what is read again after a restart are the same numbers. */
export const rounded = (markers: ArrayLike<number>): number[] => Array.from(markers, (v) => Math.round(v / QUANTUM) / 1e4)

/**
 * Frames as bytes: a version, then for each frame its time, its number of markers, and their numbers in steps of QUANTUM; deflated.
 * Measured: 13 to 15 bytes a sighting, 5 MB for ten minutes of forty markers. Differences from frame to frame would halve that, which is worth nothing here.
 */
export function encodeFrames(frames: readonly MarkerFrame[]): Buffer {
  const numbers = frames.reduce((s, f) => s + f.markers.length, 0)
  const raw = Buffer.alloc(10 * frames.length + 4 * numbers)
  let at = 0
  for (const { time, markers } of frames) {
    at = raw.writeDoubleLE(time, at)
    at = raw.writeUInt16LE(markers.length / 4, at)
    for (let i = 0; i < markers.length; i++) at = raw.writeInt32LE(Math.round(markers[i] / QUANTUM), at)
  }
  return Buffer.concat([Buffer.of(1), deflateRawSync(raw)])
}

export const markerFrames = { encode: encodeFrames, decode: decodeFrames }

export function decodeFrames(data: Buffer): MarkerFrame[] {
  const raw = inflateRawSync(data.subarray(1))
  const frames: MarkerFrame[] = []
  for (let at = 0; at < raw.length;) {
    const time = raw.readDoubleLE(at)
    const n = 4 * raw.readUInt16LE(at + 8)
    at += 10
    const markers: number[] = []
    for (let i = 0; i < n; i++, at += 4) markers.push(raw.readInt32LE(at) / 1e4)
    frames.push({ time, markers })
  }
  return frames
}
