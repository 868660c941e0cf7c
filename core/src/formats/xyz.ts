import { f32, GrowF32, u8 } from '../base/arrays.ts'
import { OakError } from '../base/errors.ts'
import type { Points } from '../shape/points.ts'
import { finish, NO_ORIGIN, unitInComment, type Origin, type Read, type Unit } from './imported.ts'
import { num } from './obj.ts'
import { ByteReader, ascii, cursor, eachLine, parseNumber, type ByteSource } from './source.ts'

/**
 * Points as text: x y z, then optionally normals and colours, parted by blanks, tabs, commas or semicolons; also with
 * decimal commas where semicolons, tabs or blanks part the columns. A first line of names says what the columns are; without
 * one, three columns of unit vectors are normals and three of whole numbers up to 255 are colours.
 */
export async function readXyz(source: ByteSource, origin: Origin = NO_ORIGIN): Promise<Read> {
  if (source.size === 0) throw new OakError('empty', 'The file is empty.', { remedy: 'Export it again.' })
  const reader = new ByteReader(source)
  const values = new GrowF32()
  let columns = 0
  let names: string[] | undefined
  let decimalComma = false
  let started = false
  let unit: Unit | undefined
  const row: number[] = []
  const shift: number[] = []
  try {
    await eachLine(reader, (b, s, e, n) => {
      let i = s
      while (i < e && b[i] <= 32) i++
      if (i === e) return
      if (b[i] === 35 /* # */ || (b[i] === 47 && b[i + 1] === 47)) {
        if (!started) unit ??= unitInComment(ascii(b, i, Math.min(e, i + 200)))
        return
      }
      if (!started) {
        const first = ascii(b, i, e)
        decimalComma = hasDecimalCommas(first)
        if (/^[a-z_"]/i.test(first) && !/^[-+]?nan/i.test(first)) {
          if (names) throw notPoints(first, n)
          names = first
            .toLowerCase()
            .replace(/["\s]+/g, ' ')
            .split(/[\s,;]+/)
            .filter(Boolean)
          // x_mm, y_mm, z_mm
          const said = names.map((w) => /^x_(mm|cm|m|in|ft|um)$/.exec(w)?.[1]).find(Boolean) as Unit | undefined
          if (said) {
            unit = said
            names = names.map((w) => w.replace(new RegExp(`^([xyz])_${said}$`), '$1'))
          }
          return
        }
      }
      let line = b
      let [from, end] = [i, e]
      if (decimalComma) {
        line = b.slice(i, e).map((c) => (c === 44 ? 46 : c))
        ;[from, end] = [0, line.length]
      }
      row.length = 0
      cursor.at = from
      for (;;) {
        let k = cursor.at
        while (k < end && (line[k] <= 32 || line[k] === 44 || line[k] === 59)) k++
        if (k >= end) break
        const v = parseNumber(line, k, end)
        if (Number.isNaN(v) && !/nan/i.test(ascii(line, from, end))) throw notPoints(ascii(b, i, e), n)
        row.push(v)
      }
      if (!started) {
        // a single number on the first line is a count
        if (row.length === 1 && !names) return
        started = true
        columns = row.length
        if (columns < 3) throw notPoints(ascii(b, i, e), n)
        for (let k = 0; k < 3; k++) shift[names?.includes('xyz'[k]) ? names.indexOf('xyz'[k]) : k] = origin[k]
      }
      // a cell may be empty, between commas; its number is then not known
      if (row.length < columns) withEmptyCells(ascii(line, from, end), columns, row)
      if (row.length < columns)
        throw new OakError('bad-line', `Line ${n} has ${row.length} numbers, the others have ${columns}.`, {
          where: `line ${n}`,
          remedy: 'Correct or remove the line.',
        })
      const a = values.reserve(columns)
      for (let k = 0; k < columns; k++) a[values.length + k] = row[k] - (shift[k] ?? 0)
      values.length += columns
    })
  } finally {
    await reader.close()
  }
  if (!started) throw new OakError('empty', 'The file holds no line with three numbers.', { remedy: 'Look whether it is a point file.' })
  const all = values.done()
  const n = all.length / columns
  const at = layout(all, n, columns, names)
  const take = (c: number[] | undefined, scale = 1) => {
    if (!c) return undefined
    const out = f32(3 * n)
    for (let i = 0; i < n; i++) for (let k = 0; k < 3; k++) out[3 * i + k] = all[i * columns + c[k]] * scale
    return out
  }
  const rgb = take(at.colours, at.colourScale)
  const used = new Set([...at.xyz, ...(at.normals ?? []), ...(at.colours ?? [])])
  const left = Array.from({ length: columns }, (_, k) => k).filter((k) => !used.has(k))
  const read = finish(
    { xyz: take(at.xyz) as Float32Array, normals: take(at.normals), colours: rgb && u8(3 * n).map((_, i) => Math.max(0, Math.min(255, Math.round(rgb[i])))) },
    left.length ? [`Left out, since it is neither place, normal nor colour: ${left.map((k) => names?.[k] ?? `column ${k + 1}`).join(', ')}.`] : [],
  )
  return { ...read, ...(unit ? { unit } : {}) }
}

/** The numbers of a line whose cells are parted by commas, semicolons or tabs, some of them empty; leaves `row` as it is where they are not as many as the columns. */
function withEmptyCells(line: string, columns: number, row: number[]): void {
  const cells = line.split(/[,;\t]/).map((c) => c.trim())
  if (cells.length !== columns) return
  const values = cells.map((c) => (c === '' ? NaN : Number(c)))
  row.splice(0, row.length, ...values)
}

/** Commas within numbers rather than between them: something else parts the columns, or every word is one number with one comma. */
function hasDecimalCommas(line: string): boolean {
  if (!/\d,\d/.test(line)) return false
  if (/[;\t]/.test(line)) return true
  const words = line.trim().split(/ +/)
  return words.length >= 3 && !line.includes('.') && words.every((w) => /^[-+]?\d+(,\d+)?(e[-+]?\d+)?$/i.test(w))
}

const notPoints = (text: string, n: number) =>
  new OakError('bad-line', `“${text.slice(0, 60)}” is not a line of numbers.`, {
    where: `line ${n}`,
    remedy: 'A point file has x, y and z in each line. Correct the line or export again.',
  })

interface Layout {
  xyz: number[]
  normals?: number[]
  colours?: number[]
  colourScale: number
}

function layout(all: Float32Array, n: number, columns: number, names: string[] | undefined): Layout {
  const find = (...sets: string[][]) => {
    for (const set of sets) {
      const at = set.map((name) => names?.indexOf(name) ?? -1)
      if (at.every((i) => i >= 0 && i < columns)) return at
    }
    return undefined
  }
  const named = find(['x', 'y', 'z'])
  const sample = Math.min(n, 1000)
  const step = Math.max(1, Math.floor(n / sample))
  const every = (test: (row: number) => boolean) => {
    for (let i = 0; i < n; i += step) if (!test(i * columns)) return false
    return true
  }
  const isNormal = (c: number) => every((o) => Math.abs(Math.hypot(all[o + c], all[o + c + 1], all[o + c + 2]) - 1) < 0.02)
  const isColour = (c: number) => every((o) => [0, 1, 2].every((k) => all[o + c + k] >= 0 && all[o + c + k] <= 255 && Number.isInteger(all[o + c + k])))
  if (named) {
    const normals = find(['nx', 'ny', 'nz'])
    const colours = find(['r', 'g', 'b'], ['red', 'green', 'blue'])
    const small = colours && every((o) => colours.every((c) => all[o + c] <= 1)) && !every((o) => colours.every((c) => Number.isInteger(all[o + c])))
    return { xyz: named, ...(normals ? { normals } : {}), ...(colours ? { colours } : {}), colourScale: small ? 255 : 1 }
  }
  const out: Layout = { xyz: [0, 1, 2], colourScale: 1 }
  for (let c = 3; c + 3 <= columns;) {
    if (!out.normals && isNormal(c)) {
      out.normals = [c, c + 1, c + 2]
      c += 3
    } else if (!out.colours && isColour(c)) {
      out.colours = [c, c + 1, c + 2]
      c += 3
    } else c++
  }
  return out
}

/** x y z, then normals and colours (0 to 255) where there are some, one point a line, mm. */
export function* writeXyz(points: Points): Generator<Uint8Array> {
  const encoder = new TextEncoder()
  const n = points.xyz.length / 3
  for (let from = 0; from < n; from += 32768) {
    let out = ''
    for (let i = from; i < Math.min(n, from + 32768); i++) {
      out += `${num(points.xyz[3 * i])} ${num(points.xyz[3 * i + 1])} ${num(points.xyz[3 * i + 2])}`
      if (points.normals) out += ` ${num(points.normals[3 * i])} ${num(points.normals[3 * i + 1])} ${num(points.normals[3 * i + 2])}`
      if (points.colours) out += ` ${points.colours[3 * i]} ${points.colours[3 * i + 1]} ${points.colours[3 * i + 2]}`
      out += '\n'
    }
    yield encoder.encode(out)
  }
}
