type Typed = Float64Array | Float32Array | Uint32Array | Int32Array | Uint8Array
const KINDS = { Float64Array, Float32Array, Uint32Array, Int32Array, Uint8Array } as const

/** What a session was asked for as JSON, typed arrays kept to the last bit. */
export function toPlain(v: unknown): unknown {
  if (ArrayBuffer.isView(v)) {
    const a = v as Typed
    return { $: a.constructor.name, bytes: Buffer.from(a.buffer, a.byteOffset, a.byteLength).toString('base64') }
  }
  if (Array.isArray(v)) return v.map(toPlain)
  if (v && typeof v === 'object') return Object.fromEntries(Object.entries(v).map(([k, x]) => [k, toPlain(x)]))
  return v
}

export function fromPlain(v: unknown): unknown {
  if (Array.isArray(v)) return v.map(fromPlain)
  if (!v || typeof v !== 'object') return v
  const { $, bytes } = v as { $?: keyof typeof KINDS; bytes?: string }
  if ($ && bytes !== undefined) {
    const own = new Uint8Array(Buffer.from(bytes, 'base64'))
    return new KINDS[$](own.buffer)
  }
  return Object.fromEntries(Object.entries(v).map(([k, x]) => [k, fromPlain(x)]))
}
