import { frameOfRecord } from '@oak-gauge/core/formats/recording.ts'
import type { FrameCodec } from '../sessions/framelog.ts'

export const timeOf = (record: Uint8Array): number => frameOfRecord(record.subarray(4)).time

/** Frames of a recording are stored as they lie in its file: chunks one behind the other are its frames. */
export const records: FrameCodec<Uint8Array> = {
  encode: (list) => Buffer.concat(list),
  decode(bytes) {
    const list: Uint8Array[] = []
    for (let at = 0; at < bytes.length;) {
      const end = at + 4 + bytes.readUInt32LE(at)
      list.push(bytes.subarray(at, end))
      at = end
    }
    return list
  },
}
