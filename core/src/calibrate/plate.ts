import { z } from 'zod'
import { OakError } from '../base/errors.ts'

/**
 * Calibration plates and their certificates: JSON files of our own, documented in docs/formats.md.
 * Plate coordinates, mm: x along the columns, y along the rows, z into the plate (right-handed); the dot of column 0, row 0 is the origin.
 */
const day = z.iso.date('A date is written as 2026-11-26.')
export const certificateSchema = z.object({
  number: z.string().min(1).max(80),
  laboratory: z.string().max(200).default(''),
  date: day,
  /** months after which it has to be measured again */
  validMonths: z.number().positive().max(240).default(24),
  /** °C at which the values hold */
  temperature: z.number().min(-50).max(100).default(20),
  /** linear expansion of the material, 1e-6 per K */
  expansion: z.number().min(-10).max(100),
})
export type Certificate = z.output<typeof certificateSchema>

export const plateSchema = z
  .object({
    format: z.literal('oak-gauge plate'),
    version: z.literal(1),
    id: z.string().min(1).max(60),
    name: z.string().min(1).max(120),
    pattern: z.enum(['dots', 'chessboard']).default('dots'),
    /** of dots, or of inner corners */
    columns: z.number().int().min(3).max(200),
    rows: z.number().int().min(3).max(200),
    /** distance between neighbours, mm */
    pitch: z.number().positive().max(500),
    /** expanded uncertainty (k = 2) of a dot's place, mm */
    uncertainty: z.number().nonnegative().max(1).default(0.002),
    /** diameter of the dots, mm */
    diameter: z.number().positive().optional(),
    /** diameter of the large dots, mm */
    largeDiameter: z.number().positive().optional(),
    /** [column, row] of the large dots: they tell which dot is which, whichever way up the plate is held */
    large: z.array(z.tuple([z.number().int().min(0), z.number().int().min(0)])).default([]),
    /** measured places, [x, y, z] mm, row after row; left out: the ideal grid */
    measured: z.array(z.tuple([z.number(), z.number(), z.number()])).optional(),
    certificate: certificateSchema,
  })
  .superRefine((p, c) => {
    const wrong = (path: string, message: string) => c.addIssue({ code: 'custom', path: [path], message })
    if (p.measured && p.measured.length !== p.columns * p.rows) wrong('measured', `${p.measured.length} measured places for ${p.columns} x ${p.rows} dots.`)
    if (p.pattern === 'chessboard') return
    if (p.diameter === undefined || p.largeDiameter === undefined) return wrong('diameter', 'A dot plate needs the diameters of its dots.')
    if (!(p.diameter < p.largeDiameter && p.largeDiameter < 0.8 * p.pitch))
      wrong('diameter', 'Dots must be smaller than large dots, and those than 0.8 of the pitch.')
    if (p.largeDiameter < 1.25 * p.diameter) wrong('largeDiameter', 'Large dots need 1.25 times the diameter of the others to be told apart.')
    if (p.large.some(([x, y]) => x >= p.columns || y >= p.rows)) wrong('large', 'A large dot lies outside of the plate.')
    if (looksLikeItselfTurned(p)) wrong('large', 'Turned by a quarter or half, the plate would look the same: the large dots do not tell its origin.')
  })
export type Plate = z.output<typeof plateSchema>

function looksLikeItselfTurned(p: { columns: number; rows: number; large: [number, number][] }): boolean {
  const key = (x: number, y: number) => y * 1000 + x
  const set = new Set(p.large.map(([x, y]) => key(x, y)))
  const same = (turn: (x: number, y: number) => [number, number]) => p.large.every(([x, y]) => set.has(key(...turn(x, y))))
  const square = p.columns === p.rows
  return same((x, y) => [p.columns - 1 - x, p.rows - 1 - y]) || (square && (same((x, y) => [p.columns - 1 - y, x]) || same((x, y) => [y, p.rows - 1 - x])))
}

/** The temperature of a plate is known to this, K (common practice, no source). */
const KELVIN = 0.5

/**
 * Relative standard uncertainty of all lengths that a plate passes on to what is calibrated with it: the certified uncertainty of two
 * dots at its far corners over their distance, and its temperature. Errors of single dots average out over many; that of the
 * whole does not, and the certificate does not tell which is which: taken as of the whole.
 */
export function plateScaleUncertainty(p: Pick<Plate, 'columns' | 'rows' | 'pitch' | 'uncertainty' | 'certificate'>): number {
  const diagonal = p.pitch * Math.hypot(p.columns - 1, p.rows - 1)
  return Math.hypot((Math.SQRT2 * p.uncertainty) / 2 / diagonal, p.certificate.expansion * 1e-6 * KELVIN)
}

/** Reads a certificate file. Throws 'bad-certificate' with the place and what to do. */
export function readPlateFile(text: string, name = 'plate file'): Plate {
  return readCertificate(plateSchema, text, name)
}

export function readCertificate<T>(schema: z.ZodType<T>, text: string, name: string): T {
  let raw: unknown
  try {
    raw = JSON.parse(text)
  } catch (e) {
    // JSON has no NaN: the commonest slip of programs that write certificates
    const nan = /\bNaN\b|\bInfinity\b/.exec(text)
    throw new OakError('bad-certificate', nan ? `The certificate says ${nan[0]} where a number belongs.` : 'The file is no valid JSON.', {
      where: nan ? `${name}, line ${text.slice(0, nan.index).split('\n').length}` : name,
      remedy: 'Ask the laboratory for the file anew, or correct it by the paper certificate.',
      cause: e,
    })
  }
  const r = schema.safeParse(raw)
  if (r.success) return r.data
  const first = r.error.issues[0]
  throw new OakError('bad-certificate', first.message, {
    where: `${name}${first.path.length ? `, ${first.path.join('.')}` : ''}`,
    remedy: 'Correct the file by the paper certificate; the fields are described in docs/formats.md.',
  })
}

export const plateCount = (p: Plate) => p.columns * p.rows
export const isLarge = (p: Plate, column: number, row: number) => p.large.some(([x, y]) => x === column && y === row)

/** Places of all dots at a temperature, 3N mm, row after row. celsius: of the plate now. */
export function platePoints(p: Plate, celsius = p.certificate.temperature): Float64Array {
  const grow = 1 + p.certificate.expansion * 1e-6 * (celsius - p.certificate.temperature)
  const out = new Float64Array(3 * plateCount(p))
  for (let r = 0; r < p.rows; r++)
    for (let c = 0; c < p.columns; c++) {
      const i = r * p.columns + c
      const [x, y, z] = p.measured?.[i] ?? [c * p.pitch, r * p.pitch, 0]
      out[3 * i] = x * grow
      out[3 * i + 1] = y * grow
      out[3 * i + 2] = z * grow
    }
  return out
}

/** Diameter of each dot, mm, row after row. */
export const dotDiameters = (p: Plate): Float64Array =>
  Float64Array.from({ length: plateCount(p) }, (_, i) => (isLarge(p, i % p.columns, Math.floor(i / p.columns)) ? (p.largeDiameter ?? 0) : (p.diameter ?? 0)))

/** Edge of the printed plate, mm: x and y from, x and y to. One pitch of white around the outer dots. */
export const plateEdge = (p: Plate) => [-p.pitch, -p.pitch, p.columns * p.pitch, p.rows * p.pitch] as const

/** Whether a certificate still holds on a day; the day it ends. */
export function certificateEnds(c: Certificate): Date {
  const d = new Date(`${c.date}T00:00:00Z`)
  d.setUTCMonth(d.getUTCMonth() + c.validMonths)
  return d
}
