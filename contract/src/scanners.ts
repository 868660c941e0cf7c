import { z } from 'zod'
import type { BarReading, Verified } from '@oak-gauge/core/calibrate/ballbar.ts'
import type { CalibrationResult } from '@oak-gauge/core/calibrate/calibration.ts'
import type { Health } from '@oak-gauge/core/calibrate/health.ts'
import type { Judgement } from '@oak-gauge/core/calibrate/judge.ts'
import { scannerSpec, stereoSchema } from '@oak-gauge/core/scanner/spec.ts'
import { triple, when } from './ledger.ts'
import { problem } from './problem.ts'

/** Bodies and answers about scanners, their artefacts, calibrations and verifications. */

export const addScanner = z.object({
  address: z
    .string()
    .trim()
    .regex(/^wss?:\/\/.+/, 'The address of a scanner begins with ws://'),
})
export const scannerPatch = z.object({
  /** of a stand-in: its process */
  on: z.boolean().optional(),
  exposure: z.number().positive('An exposure is a number above 0.').max(100).optional(),
})
const amount = (most: number) => z.number().min(-most).max(most).default(0)
/** the virtual hand: how the plate before a stand-in is moved, mm and degrees, as the scanner sees it */
export const handRequest = z.object({
  away: amount(1000),
  right: amount(1000),
  down: amount(1000),
  topAway: amount(90),
  rightAway: amount(90),
  turn: amount(180),
})
export type HandRequest = z.input<typeof handRequest>
const moment = z.number().min(0).max(1e6)
/** all spans of a recording that are left out: from and to, s since its first frame */
export const leaveOut = z.object({ spans: z.array(z.tuple([moment, moment])).max(500) })
export const startCalibration = z.object({
  plate: z.uuid(),
  /** 'hand': guided; 'script': a stand-in's hand follows the targets; 'turntable': the scanner does it by itself; 'files': from recorded images */
  way: z.enum(['hand', 'script', 'turntable', 'files']),
  /** go on although the scanner is cold; recorded */
  cold: z.boolean().default(false),
  /** the plate that lies before a stand-in; default: the one whose file was chosen */
  onBench: z.uuid().optional(),
  /** fewer target poses, for the impatient; default all */
  targets: z.number().int().min(6).max(16).optional(),
})
export const startVerification = z.object({ bar: z.uuid(), cold: z.boolean().default(false) })
export type StartCalibration = z.input<typeof startCalibration>
export const imageQuery = z.object({ name: z.string().min(1).max(255), side: z.enum(['left', 'right']), pair: z.coerce.number().int().min(0).max(500) })

export const startMapping = z.object({
  scanner: z.uuid(),
  setup: z.uuid(),
  /** a map to go on from: that of the same setup, or of another whose markers travelled along */
  known: z.uuid().nullable().default(null),
  /** expanded uncertainty (k = 2) at which a marker is good enough, mm */
  target: z.number().positive().max(10).default(0.02),
  cold: z.boolean().default(false),
})
export type StartMapping = z.input<typeof startMapping>
/** exposure: 1 is matt white at the ideal distance; auto: it follows what is seen; spot: what lies around that place of the model, mm; pattern: one of the scanner's */
export const lightRequest = z.strictObject({
  exposure: z.number().positive('An exposure is a number above 0.').max(100).optional(),
  auto: z.boolean().optional(),
  spot: z.tuple([z.number(), z.number(), z.number()]).optional(),
  pattern: z.string().min(1).max(40).optional(),
})
export type LightRequest = z.output<typeof lightRequest>
export const startCapture = z.object({
  scanner: z.uuid(),
  setup: z.uuid(),
  /** what holds the frames. print: shape, and how bright the surface is where. own: what an arm or a turntable says. auto: the markers of the setup's map where there is one, else that, else shape */
  by: z.enum(['auto', 'markers', 'shape', 'print', 'both', 'own']).default('auto'),
  /** of the surface that grows, mm */
  spacing: z.number().min(0.1).max(20).default(1),
  name: z.string().trim().min(1).max(200).optional(),
  /** with a turntable: the angles it is turned to for a shot, degrees */
  angles: z.array(z.number().min(-360).max(360)).min(1).max(360).default([0, 45, 90, 135, 180, 225, 270, 315]),
  /** to begin with; default: as the scanner is set */
  light: lightRequest.optional(),
  /** before a stand-in: the part stands on a table that is seen, and not on a thin stand */
  table: z.boolean().default(false),
  /** before a stand-in: the part carries a print */
  printed: z.boolean().default(false),
  /** single lines as ordered data as well: along: distance of points along a line; gap: the largest between two lines that is still one surface, mm */
  ordered: z.object({ along: z.number().min(0.02).max(50), gap: z.number().min(0.02).max(200) }).optional(),
  cold: z.boolean().default(false),
})
export type StartCapture = z.input<typeof startCapture>
/** Shots at these angles, degrees; or where something is missing, once or until nothing is gained. */
export const shotsRequest = z.object({ angles: z.array(z.number().min(-360).max(360)).min(1).max(360) })
export const againRequest = z.object({ until: z.enum(['once', 'gained']) })
const millimetres = z.number().positive('A distance is a length above 0 mm.').max(10_000)
/** near, far: points nearer or farther than that along the line of sight count for nothing, mm; null: all do */
export const placeAnewRequest = z
  .strictObject({ spacing: z.number().min(0.1).max(20), near: millimetres.nullable(), far: millimetres.nullable() })
  .refine(({ near, far }) => near === null || far === null || near < far, { message: 'The near limit must be nearer than the far one.', path: ['near'] })
export type PlaceAnew = z.output<typeof placeAnewRequest>
/** What lies beneath the floor is neither shown nor part of the pass. markers: names of those that stick on it; raise: mm towards the part */
export const floorRequest = z
  .strictObject({
    floor: z.enum(['none', 'table', 'markers']),
    floorMarkers: z.array(z.string().min(1).max(40)).max(100).default([]),
    raise: z.number().min(-20).max(50).default(0.5),
  })
  .refine((f) => f.floor !== 'markers' || new Set(f.floorMarkers).size >= 3, { message: 'A floor needs three markers or more.', path: ['floorMarkers'] })
export type FloorRequest = z.output<typeof floorRequest>
export const nudgeRequest = z.object({ marker: z.string().min(1).max(40), distance: z.number().positive('A nudge is a length above 0 mm.').max(50) })

export const link = z.enum(['off', 'connecting', 'connected', 'lost'])
export type LinkStatus = z.output<typeof link>
const goOrNot = z.enum(['go', 'no-go'])
const verdict = z.enum(['pass', 'fail', 'not decidable'])

export const calibrationSummary = z
  .strictObject({
    id: z.uuid(),
    at: when,
    plate: z.string(),
    celsius: z.number().describe('Of the room.'),
    cold: z.boolean().describe('Made although the scanner was cold.'),
    verdict: goOrNot,
    rms: z.number().describe('Reprojection error, px.'),
    mean: z.number(),
    largest: z.number(),
    baseline: z.number().describe('mm.'),
    poses: z.int(),
    way: z.string().describe('How it was made.'),
  })
  .meta({ id: 'CalibrationSummary' })
export type CalibrationSummary = z.output<typeof calibrationSummary>

const judged = z.strictObject({
  name: z.enum(['form', 'size', 'distance']),
  value: z.number(),
  limit: z.number(),
  uncertainty: z.number().describe('Expanded (k = 2).'),
  verdict,
  position: z.int(),
})
export const verificationSummary = z
  .strictObject({
    id: z.uuid(),
    at: when,
    calibration: z.uuid().nullable(),
    bar: z.string(),
    cold: z.boolean(),
    verdict,
    rows: z.array(judged).describe('The value that decides each quantity, mm.'),
    positions: z.int(),
  })
  .meta({ id: 'VerificationSummary' })
export type VerificationSummary = z.output<typeof verificationSummary>

const health = z.strictObject({
  state: z.enum(['go', 'due', 'no-go']),
  reason: z.string(),
  goodUntil: z.number().nullable().describe('ms since 1970; null when it is not good.'),
})

export const scannerSummary = z
  .strictObject({
    id: z.uuid(),
    name: z.string(),
    model: z.string(),
    serial: z.string(),
    kind: scannerSpec.shape.kind,
    turntable: z.boolean(),
    own: z.boolean().describe('It says with each frame where it is: an arm, a turntable.'),
    standIn: z.strictObject({ clock: z.number() }).nullable().describe('How much faster its clock runs than that of the world; null of a real scanner.'),
    on: z.boolean(),
    address: z.string().nullable(),
    link,
    problem: problem.nullable(),
    state: z.strictObject({ celsius: z.number(), room: z.number(), warm: z.boolean(), exposure: z.number(), pattern: z.string() }).nullable(),
    warmIn: z.number().nullable().describe('Minutes of its own clock until it is warm; null while it cannot be told.'),
    health,
    calibration: calibrationSummary.nullable().describe('The one in use.'),
    verification: verificationSummary.nullable().describe('The last of the calibration in use.'),
    run: z.strictObject({ kind: z.enum(['calibration', 'verification', 'mapping', 'capture']), phase: z.string() }).nullable(),
  })
  .meta({ id: 'ScannerSummary' })
export type ScannerSummary = z.output<typeof scannerSummary>

export const scannerNote = z.strictObject({ at: when, text: z.string() }).meta({ id: 'ScannerNote' })
export type ScannerNote = z.output<typeof scannerNote>

export const scannerDetail = scannerSummary
  .extend({
    spec: scannerSpec,
    calibrations: z.array(calibrationSummary),
    verifications: z.array(verificationSummary),
    notes: z.array(scannerNote),
    warming: z
      .strictObject({ minutes: z.array(z.number()), celsius: z.array(z.number()), final: z.number().nullable(), tau: z.number().nullable() })
      .describe('Readings since it was switched on, and the curve fitted to them: where it ends, °C, and its time constant, minutes.'),
  })
  .meta({ id: 'Scanner' })
export type ScannerDetail = z.output<typeof scannerDetail>

const byName = z.record(z.string(), z.number())
const cells = { columns: z.int(), rows: z.int(), counts: z.array(z.number()) }
export const coverage = z.strictObject(cells)
const field = z.strictObject({ ...cells, u: z.array(z.number()), v: z.array(z.number()) })
const sides = <S extends z.ZodType>(of: S) => z.strictObject({ left: of, right: of })
const calibrationResult = z
  .strictObject({
    stereo: stereoSchema,
    uncertainty: sides(byName).extend({ baseline: z.number(), angle: z.number() }).describe('Standard uncertainties.'),
    baseline: z.number().describe('mm.'),
    angle: z.number().describe('Between the cameras, degrees.'),
    rms: z.number().describe('Reprojection error, px.'),
    mean: z.number(),
    largest: z.number(),
    poses: z.array(z.strictObject({ rms: z.number(), out: z.boolean(), pose: z.array(z.number()) })),
    field: sides(field).describe('Mean of projected minus seen by cell, px.'),
    coverage: sides(coverage),
    covered: z.number(),
    dots: z.int(),
    leftOut: z.int(),
    tiltRange: z.number().describe('Degrees.'),
    nearest: z.number(),
    farthest: z.number(),
    iterations: z.int(),
  })
  .meta({ id: 'CalibrationResult' })
const judgement = z.strictObject({
  verdict: goOrNot,
  findings: z.array(z.strictObject({ level: z.enum(['stop', 'look']), message: z.string(), remedy: z.string() })),
})
export const calibrationDetail = calibrationSummary
  .extend({
    scanner: z.uuid(),
    result: calibrationResult,
    judgement,
    previous: z.strictObject({ id: z.uuid(), at: when, result: calibrationResult }).nullable(),
  })
  .meta({ id: 'Calibration' })
export type CalibrationDetail = z.output<typeof calibrationDetail>

const sphere = z.strictObject({
  centre: triple,
  diameter: z.number(),
  points: z.int(),
  rejected: z.int(),
  form: z.number(),
  size: z.number(),
  centreUncertainty: z.number(),
  sizeUncertainty: z.number(),
})
export const barReading = z
  .strictObject({
    spheres: z.tuple([sphere, sphere]),
    distance: z.number().describe('Measured less certified distance of the centres, mm.'),
    uncertainty: z.number().describe('Standard uncertainty of that, mm.'),
    middle: triple,
    direction: triple,
  })
  .meta({ id: 'BarReading' })
export const verificationDetail = verificationSummary.extend({ scanner: z.uuid(), readings: z.array(barReading) }).meta({ id: 'Verification' })
export type VerificationDetail = z.output<typeof verificationDetail>

export const artefactSummary = z
  .strictObject({
    id: z.uuid(),
    kind: z.enum(['plate', 'ball-bar']),
    name: z.string(),
    size: z.number().describe('Plate: pitch; ball bar: length, mm.'),
    certificate: z.strictObject({ number: z.string(), laboratory: z.string(), date: z.string(), ends: z.string(), valid: z.boolean() }),
  })
  .meta({ id: 'Artefact' })
export type ArtefactSummary = z.output<typeof artefactSummary>

/** What does not compile when a shape here and the core's own go apart. */
type Same<A extends B, B> = A
export type CheckedScanners = [
  Same<z.output<typeof calibrationResult>, CalibrationResult>,
  Same<z.output<typeof judgement>, Judgement>,
  Same<z.output<typeof health>, Health>,
  Same<z.output<typeof barReading>, BarReading>,
  Same<z.output<typeof judged>, Verified['rows'][number]>,
]
