import { z } from 'zod'
import type { BarReading, Verified } from '@oak-gauge/core/calibrate/ballbar.ts'
import type { CalibrationResult } from '@oak-gauge/core/calibrate/calibration.ts'
import type { Coverage } from '@oak-gauge/core/calibrate/coverage.ts'
import type { Health } from '@oak-gauge/core/calibrate/health.ts'
import type { Judgement } from '@oak-gauge/core/calibrate/judge.ts'
import type { PlateTrouble } from '@oak-gauge/core/calibrate/readplate.ts'
import type { Match } from '@oak-gauge/core/calibrate/targets.ts'
import type { ScannerSpec } from '@oak-gauge/core/scanner/spec.ts'
import type { Verdict } from '@oak-gauge/core/uncertainty/decision.ts'
import type { Problem } from './job.ts'

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

export type LinkStatus = 'off' | 'connecting' | 'connected' | 'lost'

export interface CalibrationSummary {
  id: string
  at: string
  plate: string
  /** °C of the room */
  celsius: number
  /** made although the scanner was cold */
  cold: boolean
  verdict: 'go' | 'no-go'
  rms: number
  mean: number
  largest: number
  baseline: number
  poses: number
  /** how it was made */
  way: string
}
export interface VerificationSummary {
  id: string
  at: string
  calibration: string | null
  bar: string
  cold: boolean
  verdict: Verdict
  rows: Verified['rows']
  positions: number
}

export interface ScannerSummary {
  id: string
  name: string
  model: string
  serial: string
  kind: ScannerSpec['kind']
  /** how much faster its clock runs than the world's; null of a real scanner */
  standIn: { clock: number } | null
  on: boolean
  address: string | null
  link: LinkStatus
  problem: Problem | null
  state: { celsius: number; room: number; warm: boolean; exposure: number; pattern: string } | null
  /** minutes until it is warm, of its own clock; null while it cannot be told */
  warmIn: number | null
  health: Health
  calibration: CalibrationSummary | null
  /** last verification of the calibration in use */
  verification: VerificationSummary | null
  run: { kind: RunState['kind']; phase: string } | null
}

export interface ScannerNote {
  at: string
  text: string
}

export interface ScannerDetail extends ScannerSummary {
  spec: ScannerSpec
  calibrations: CalibrationSummary[]
  verifications: VerificationSummary[]
  notes: ScannerNote[]
  /** readings since it was switched on: minutes of its own clock, °C; and the curve fitted to them */
  warming: { minutes: number[]; celsius: number[]; final: number | null; tau: number | null }
}

export interface CalibrationDetail extends CalibrationSummary {
  scanner: string
  result: CalibrationResult
  judgement: Judgement
  previous: { id: string; at: string; result: CalibrationResult } | null
}

export interface VerificationDetail extends VerificationSummary {
  scanner: string
  readings: BarReading[]
}

/** State of a calibration run, as the browser shows it. */
export interface CalibrationRun {
  kind: 'calibration'
  way: z.output<typeof startCalibration>['way']
  plate: string
  phase: 'looking' | 'waiting' | 'solving' | 'done' | 'failed'
  /** number of the target that is due, of how many; its name */
  target: number
  targets: number
  name: string
  taken: number
  skipped: number
  /** what stands in the way of this image, and what is worth knowing about it */
  trouble: PlateTrouble | null
  advice: PlateTrouble | null
  match: Match | null
  still: boolean
  coverage: { left: Coverage; right: Coverage }
  cold: boolean
  problem: Problem | null
  /** of the calibration that came out */
  calibration: string | null
}
export interface VerificationRun {
  kind: 'verification'
  bar: string
  phase: 'ready' | 'measuring' | 'waiting' | 'done' | 'failed'
  positions: number
  /** how the bar is to be held next */
  name: string
  readings: BarReading[]
  problem: Problem | null
  verification: string | null
}
export type RunState = CalibrationRun | VerificationRun | MappingRun

export interface ArtefactSummary {
  id: string
  kind: 'plate' | 'ball-bar'
  name: string
  /** plate: pitch; ball bar: length, mm */
  size: number
  certificate: { number: string; laboratory: string; date: string; ends: string; valid: boolean }
}

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
export const nudgeRequest = z.object({ marker: z.string().min(1).max(40), distance: z.number().positive('A nudge is a length above 0 mm.').max(50) })

/** How well one marker is known while mapping. */
export interface MappedMarker {
  id: string
  /** mm, in the axes of the map */
  at: [number, number, number]
  diameter: number
  /** expanded uncertainty (k = 2), worst direction, mm; null until it was solved */
  u: number | null
  /** widest angle between the views of it, degrees */
  angle: number
  sightings: number
  now: boolean
  /** new: not solved yet; frames, directions: what it lacks; enough: it reaches the target */
  state: 'new' | 'frames' | 'directions' | 'enough' | 'gone'
  /** how far it moved, mm */
  moved: number | null
}

/** State of a mapping run, as the browser shows it. */
export interface MappingRun {
  kind: 'mapping'
  job: string
  setup: string
  phase: 'recording' | 'held' | 'waiting' | 'solving' | 'done' | 'failed'
  sequence: number
  frames: number
  lost: number
  tracking: 'first' | 'tracked' | 'regained' | 'lost' | 'few' | 'none'
  /** why a frame could not be placed, in a few words */
  why: string
  inView: number
  fits: number
  target: number
  enough: number
  markers: MappedMarker[]
  moved: { id: string; distance: number; uncertainty: number; together: string[] }[]
  missing: string[]
  /** planned, and not found yet */
  absent: string[]
  /** neither planned nor in the map before */
  added: string[]
  /** where the scanner stands and looks, in the axes of the map, mm */
  scanner: { at: [number, number, number]; looks: [number, number, number] } | null
  /** mm from the scanner to the middle of what it sees, with its range */
  distance: number | null
  range: { near: number; ideal: number; far: number }
  standIn: boolean
  /** a turntable turns what is marked; else a hand leads the scanner */
  turntable: boolean
  /** the virtual hand follows its path: 0..1 */
  path: number | null
  problem: Problem | null
  /** the step that makes the map */
  step: string | null
}
