import { OakError } from '../base/errors.ts'

/** A file as a stream of bytes: from a disk, a browser's File, or the database. */
export interface ByteSource {
  readonly name: string
  readonly size: number
  chunks(): AsyncIterable<Uint8Array>
}

export function bytesSource(name: string, bytes: Uint8Array, chunk = 1 << 20): ByteSource {
  return {
    name,
    size: bytes.length,
    async *chunks() {
      await Promise.resolve()
      for (let i = 0; i < bytes.length; i += chunk) yield bytes.subarray(i, i + chunk)
    },
  }
}

/** Pulls bytes from a source; holds no more than what was asked for and one chunk. */
export class ByteReader {
  buffer: Uint8Array = new Uint8Array(0)
  pos = 0
  /** bytes consumed before `buffer` */
  private before = 0
  private readonly it: AsyncIterator<Uint8Array>
  ended = false
  readonly source: ByteSource
  constructor(source: ByteSource) {
    this.source = source
    this.it = source.chunks()[Symbol.asyncIterator]()
  }
  get offset(): number {
    return this.before + this.pos
  }
  get available(): number {
    return this.buffer.length - this.pos
  }
  /** Tries to have n bytes ready; false at the end of the file. */
  async fill(n: number): Promise<boolean> {
    if (this.available >= n) return true
    const parts: Uint8Array[] = [this.buffer.subarray(this.pos)]
    let have = this.available
    while (have < n && !this.ended) {
      const next = await this.it.next()
      if (next.done) this.ended = true
      else {
        parts.push(next.value)
        have += next.value.length
      }
    }
    if (parts.length > 1) {
      this.before += this.pos
      this.pos = 0
      if (parts[0].length === 0 && parts.length === 2) this.buffer = parts[1]
      else {
        const joined = new Uint8Array(have)
        let o = 0
        for (const p of parts) {
          joined.set(p, o)
          o += p.length
        }
        this.buffer = joined
      }
    }
    return have >= n
  }
  async close(): Promise<void> {
    await this.it.return?.()
  }
}

const MAX_LINE = 1 << 20

/**
 * Calls `line(buffer, start, end, number)` for every line; the buffer is only valid during the call. Lines end with LF, CR LF, or CR alone; a byte-order
 * mark before the first is passed over. Return true to stop. Throws OakError 'not-text' for a line over a mebibyte.
 */
export async function eachLine(
  reader: ByteReader,
  line: (b: Uint8Array, start: number, end: number, number: number) => boolean | undefined | void,
  firstNumber = 1,
): Promise<number> {
  let number = firstNumber
  if (reader.offset === 0) {
    await reader.fill(3)
    const [b, p] = [reader.buffer, reader.pos]
    if (reader.available >= 3 && b[p] === 0xef && b[p + 1] === 0xbb && b[p + 2] === 0xbf) reader.pos += 3
  }
  // files that know no LF are old, but there: told by the first ends that come
  let end = 10
  const first = reader.offset
  for (;;) {
    const b = reader.buffer
    let start = reader.pos
    if (reader.offset === first) {
      const cr = b.indexOf(13, start)
      if (cr >= 0 && cr + 1 < b.length && b[cr + 1] !== 10 && b.indexOf(10, start) < 0) end = 13
    }
    for (;;) {
      const at = b.indexOf(end, start)
      if (at < 0) break
      reader.pos = at + 1
      const stop = line(b, start, at > start && b[at - 1] === 13 ? at - 1 : at, number++)
      start = at + 1
      if (stop) return number
    }
    reader.pos = start
    if (reader.available > MAX_LINE)
      throw new OakError('not-text', 'A line of over a million characters: this is no text file of points.', {
        where: `line ${number}`,
        remedy: 'Check the file’s ending.',
      })
    if (reader.ended || !(await reader.fill(reader.available + 1))) {
      if (reader.available > 0) {
        const last = reader.buffer
        const from = reader.pos
        const stop = last[last.length - 1] === 13 ? last.length - 1 : last.length
        reader.pos = last.length
        line(last, from, stop, number++)
      }
      return number
    }
  }
}

const text = new TextDecoder('latin1')
export const ascii = (b: Uint8Array, start = 0, end = b.length) => text.decode(b.subarray(start, end))

/** Where the last parsed number ended. */
export const cursor = { at: 0 }

const POW10 = Array.from({ length: 23 }, (_, i) => 10 ** i)

/**
 * Number that starts at or after `i` (blanks, commas, semicolons and tabs are skipped). NaN when there is none or when
 * it is malformed (then cursor.at is behind the word). Exact for up to 15 digits, otherwise left to the runtime.
 */
export function parseNumber(b: Uint8Array, i: number, end: number): number {
  while (i < end && (b[i] === 32 || b[i] === 9 || b[i] === 44 || b[i] === 59)) i++
  const start = i
  let negative = false
  if (b[i] === 45) {
    negative = true
    i++
  } else if (b[i] === 43) i++
  let mantissa = 0
  let digits = 0
  let scale = 0
  while (i < end && b[i] >= 48 && b[i] <= 57) {
    mantissa = mantissa * 10 + b[i++] - 48
    digits++
  }
  if (b[i] === 46 && i < end) {
    i++
    while (i < end && b[i] >= 48 && b[i] <= 57) {
      mantissa = mantissa * 10 + b[i++] - 48
      digits++
      scale--
    }
  }
  let simple = digits > 0 && digits <= 15
  if (i < end && (b[i] | 32) === 101 && digits > 0) {
    let j = i + 1
    let sign = 1
    if (b[j] === 45) {
      sign = -1
      j++
    } else if (b[j] === 43) j++
    let e = 0
    const from = j
    while (j < end && b[j] >= 48 && b[j] <= 57) e = e * 10 + b[j++] - 48
    if (j > from) {
      scale += sign * e
      i = j
    } else simple = false
  }
  if (i < end && !(b[i] === 32 || b[i] === 9 || b[i] === 44 || b[i] === 59 || b[i] === 13 || b[i] === 47)) simple = false
  if (simple && scale <= 22 && scale >= -22) {
    cursor.at = i
    const v = scale < 0 ? mantissa / POW10[-scale] : mantissa * POW10[scale]
    return negative ? -v : v
  }
  i = start
  while (i < end && !(b[i] === 32 || b[i] === 9 || b[i] === 44 || b[i] === 59 || b[i] === 13)) i++
  cursor.at = i
  const word = ascii(b, start, i)
  return word === '' ? NaN : Number(word)
}

export const truncated = (what: string, where: string) =>
  new OakError('truncated', `The file ends too early: ${what}.`, { where, remedy: 'Copy or export the file again; it was cut off.' })

/** The whole file as text, for the small ones. Throws 'too-large' beyond 64 MB. */
export async function readText(source: ByteSource): Promise<string> {
  if (source.size > 64 * 1024 ** 2)
    throw new OakError('too-large', `The file has ${(source.size / 1e6).toFixed(0)} MB; a list has less than 64.`, {
      where: source.name,
      remedy: 'Bring in the right file.',
    })
  const decoder = new TextDecoder()
  let text = ''
  for await (const c of source.chunks()) text += decoder.decode(c, { stream: true })
  return text + decoder.decode()
}
