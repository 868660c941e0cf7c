/**
 * Arrays on their way to the browser: 4 bytes little-endian length of the header, the header as JSON padded with blanks to a multiple of
 * four, then the arrays one after the other, each at a multiple of four.
 */
export interface ContainerEntry {
  name: string
  type: 'f32' | 'u32' | 'u8'
  length: number
}

const WIDTH = { f32: 4, u32: 4, u8: 1 }
const padded = (n: number) => (n + 3) & ~3

export function packHeader(entries: ContainerEntry[]): Uint8Array {
  const json = new TextEncoder().encode(JSON.stringify(entries))
  const out = new Uint8Array(4 + padded(json.length)).fill(32)
  new DataView(out.buffer).setUint32(0, padded(json.length), true)
  out.set(json, 4)
  return out
}

/** Bytes of filling behind an array of so many bytes. */
export const padding = (bytes: number) => padded(bytes) - bytes

export function unpack(buffer: ArrayBuffer): Record<string, Float32Array | Uint32Array | Uint8Array> {
  const size = new DataView(buffer).getUint32(0, true)
  const entries = JSON.parse(new TextDecoder().decode(new Uint8Array(buffer, 4, size))) as ContainerEntry[]
  const out: Record<string, Float32Array | Uint32Array | Uint8Array> = {}
  let at = 4 + size
  for (const e of entries) {
    out[e.name] =
      e.type === 'f32'
        ? new Float32Array(buffer, at, e.length)
        : e.type === 'u32'
          ? new Uint32Array(buffer, at, e.length)
          : new Uint8Array(buffer, at, e.length)
    at += padded(e.length * WIDTH[e.type])
  }
  return out
}
