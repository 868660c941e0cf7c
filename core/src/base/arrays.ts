import { OakError } from './errors.ts'

/**
 * Typed arrays on shared memory, so that worker threads read and write them without copying.
 * Where the host has no SharedArrayBuffer (a page that is not cross-origin isolated) they are ordinary ones.
 */
const Buffer_: new (bytes: number) => ArrayBufferLike = typeof SharedArrayBuffer === 'undefined' ? ArrayBuffer : SharedArrayBuffer

export const f32 = (n: number) => new Float32Array(memory(n * 4))
export const f64 = (n: number) => new Float64Array(memory(n * 8))
export const u32 = (n: number) => new Uint32Array(memory(n * 4))
export const i32 = (n: number) => new Int32Array(memory(n * 4))
export const u8 = (n: number) => new Uint8Array(memory(n))

/**
 * Engines do not count shared memory when they decide whether to collect (V8): of a step that makes little else it all stays, used or not. Where the host lets
 * itself be asked (Node with --expose-gc, as the compute threads run), it is after so many bytes.
 */
const COLLECT = 2 ** 28
let owed = 0
const host = globalThis as { gc?: () => void }

/** Throws OakError 'out-of-memory' where the host has no more. */
function memory(bytes: number): ArrayBuffer {
  owed += bytes
  if (owed > COLLECT) {
    owed = 0
    host.gc?.()
  }
  try {
    return new Buffer_(bytes) as ArrayBuffer
  } catch (cause) {
    throw new OakError('out-of-memory', `The memory of this machine is not enough for this step: ${(bytes / 1e9).toPrecision(2)} GB more were asked for.`, {
      remedy: 'Thin or trim the passes, or choose a coarser cell.',
      cause,
    })
  }
}

/** Copy of `a` in shared memory (the array itself when it already lives there). */
export function shareF32(a: Float32Array): Float32Array {
  if (a.buffer instanceof Buffer_) return a
  const b = f32(a.length)
  b.set(a)
  return b
}

/** Grows by doubling; `done()` gives exactly the filled part. For readers that cannot know the count beforehand. */
export class GrowF32 {
  private a: Float32Array
  length = 0
  constructor(capacity = 1 << 16) {
    this.a = f32(capacity)
  }
  reserve(extra: number): Float32Array {
    if (this.length + extra > this.a.length) {
      const b = f32(Math.max(this.length + extra, this.a.length * 2))
      b.set(this.a.subarray(0, this.length))
      this.a = b
    }
    return this.a
  }
  push3(x: number, y: number, z: number): void {
    const a = this.reserve(3)
    const n = this.length
    a[n] = x
    a[n + 1] = y
    a[n + 2] = z
    this.length = n + 3
  }
  at(i: number): number {
    return this.a[i]
  }
  done(): Float32Array {
    if (this.a.length === this.length) return this.a
    const b = f32(this.length)
    b.set(this.a.subarray(0, this.length))
    return b
  }
}

/** The same in double precision, where what comes may lie far out. */
export class GrowF64 {
  private a: Float64Array
  length = 0
  constructor(capacity = 1024) {
    this.a = new Float64Array(capacity)
  }
  push3(x: number, y: number, z: number): void {
    if (this.length + 3 > this.a.length) {
      const b = new Float64Array(2 * this.a.length + 3)
      b.set(this.a)
      this.a = b
    }
    this.a[this.length++] = x
    this.a[this.length++] = y
    this.a[this.length++] = z
  }
  /** a copy of the filled part */
  done(): Float64Array {
    return this.a.slice(0, this.length)
  }
}

export class GrowU32 {
  private a: Uint32Array
  length = 0
  constructor(capacity = 1 << 16) {
    this.a = u32(capacity)
  }
  push(v: number): void {
    if (this.length === this.a.length) {
      const b = u32(this.a.length * 2)
      b.set(this.a)
      this.a = b
    }
    this.a[this.length++] = v
  }
  at(i: number): number {
    return this.a[i]
  }
  done(): Uint32Array {
    const b = u32(this.length)
    b.set(this.a.subarray(0, this.length))
    return b
  }
}

export class GrowU8 {
  private a = u8(1 << 14)
  length = 0
  push(v: number): void {
    if (this.length === this.a.length) {
      const b = u8(this.a.length * 2)
      b.set(this.a)
      this.a = b
    }
    this.a[this.length++] = v
  }
  done(): Uint8Array {
    const b = u8(this.length)
    b.set(this.a.subarray(0, this.length))
    return b
  }
}
