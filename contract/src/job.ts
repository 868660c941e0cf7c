import { z } from 'zod'
import type { Evidence } from '@oak-gauge/core/operations/operation.ts'
import type { named, QuantityId } from '@oak-gauge/core/operations/quantities.ts'
import type { Stage } from '@oak-gauge/core/operations/stages.ts'
import type { DistanceError } from '@oak-gauge/core/uncertainty/scanner.ts'

/** Bodies and answers of the REST interface. Types are inferred, so that both sides read the same page. */

export const UNITS = ['mm', 'cm', 'm', 'in', 'ft', 'um'] as const
export const unitSchema = z.enum(UNITS)

export const PURPOSES = ['inspection', 'reverse-engineering', 'custom-part'] as const
export const SURFACES = ['matte', 'dark', 'glossy', 'see-through'] as const

const fields = {
  title: z.string().trim().min(1, 'A job needs a name.').max(120),
  part: z.string().trim().max(200),
  purpose: z.enum(PURPOSES),
  /** full width of the permitted deviation to one side, mm */
  tolerance: z.number().positive('A tolerance is a length above 0 mm.').max(1000).nullable(),
  surface: z.enum(SURFACES),
  notes: z.string().max(4000),
  /** the scanner this job is to be recorded with */
  scanner: z.uuid().nullable(),
}
export const jobFields = z.object({
  title: fields.title,
  part: fields.part.default(''),
  purpose: fields.purpose.default('inspection'),
  tolerance: fields.tolerance.default(null),
  surface: fields.surface.default('matte'),
  notes: fields.notes.default(''),
  scanner: fields.scanner.default(null),
})
export type JobFields = z.output<typeof jobFields>
/** Without defaults: what is not named stays as it is. */
export const jobPatch = z.object(fields).partial()

/** `map` and `deviation` are fields of numbers over a surface; `shape` is a plain shape that stands for the part while planning */
export const ROLES = ['pass', 'nominal', 'mesh', 'map', 'deviation', 'marker-plan', 'marker-map', 'shape'] as const
export type Role = (typeof ROLES)[number]

export const setupFields = z.object({ name: z.string().trim().min(1, 'A setup needs a name.').max(120) })
export const slotPatch = z.object({ setup: z.uuid().nullable() })

/** What every request that changes a ledger says of itself. */
const asked = {
  /** step behind which it was asked for (see endOf): when the job has gone on, it is answered 409. Left out: behind whatever there is */
  after: z.uuid().nullable().optional(),
  /** number of its own: sent twice it is one request */
  request: z.uuid().optional(),
}
export const stepRequest = z.object({
  ...asked,
  operation: z.string().min(1).max(60),
  /** slots for each port of the operation */
  inputs: z.record(z.string(), z.array(z.uuid())).default({}),
  params: z.record(z.string(), z.unknown()).default({}),
  /** compute and show, but do not change the job */
  preview: z.boolean().default(false),
})
export type StepRequest = z.input<typeof stepRequest>

export const rerunRequest = z.object({ ...asked, params: z.record(z.string(), z.unknown()) })
export const headRequest = z.object({ after: asked.after, step: z.uuid().nullable() })
export const fileQuery = z.object({
  request: asked.request,
  name: z.string().min(1).max(255),
  role: z.enum(['pass', 'nominal', 'mesh', 'marker-map']).optional(),
  setup: z.uuid().optional(),
  unit: unitSchema.optional(),
})

/** What went wrong, where, and what to do: the same four words everywhere. */
export interface Problem {
  code: string
  message: string
  where: string
  remedy: string
}

export interface JobSummary extends JobFields {
  id: string
  demo: boolean
  createdAt: string
  updatedAt: string
  /** the stage that is at work */
  stage: string
  /** one line: what is due or what came out */
  headline: string
  /** where the picture of the part lies */
  picture: string | null
  passes: number
  busy: boolean
}

export interface Setup {
  id: string
  name: string
  place: number
}

export interface TrayItem {
  id: string
  slot: string
  role: Role
  setup: string | null
  name: string
  kind: 'points' | 'mesh' | 'field' | 'markers'
  /** points, triangles or values */
  count: number
  /** in its own coordinates: min x y z, max x y z */
  box: number[] | null
  pose: number[]
  step: string
  /** of a field: the slot of the item whose vertices or points it speaks of */
  on: string | null
  /** vertices or points that the display level holds */
  shown: number
  faces: number
  /** of points: distance between neighbours, mm */
  spacing: number | null
}

/** A quantity with the words for it. */
export type NamedQuantity = ReturnType<typeof named>
export interface StepEvidence extends Omit<Evidence, 'quantities'> {
  quantities: NamedQuantity[]
}

export interface RecordedWith {
  scanner: string
  calibration: string | null
  state: string
  reason: string
  /** what its last verification said, where there was one */
  distance?: DistanceError | null
}

export const STEP_STATES = ['queued', 'running', 'done', 'failed', 'cancelled'] as const
export interface Step {
  id: string
  parent: string | null
  seq: number
  operation: string
  title: string
  stage: Stage
  /** quantities the strip shows of it, most telling first */
  shows: QuantityId[]
  params: Record<string, unknown>
  inputs: Record<string, string[]>
  /** slots of what it made, by port */
  outputs: Record<string, string[]>
  state: (typeof STEP_STATES)[number]
  preview: boolean
  progress: number
  phase: string
  evidence: StepEvidence | null
  problem: Problem | null
  milliseconds: number | null
  reused: boolean
  createdAt: string
  /** name of the file it brought in */
  file: string | null
  /** of a pass: the scanner it was recorded with, and how it stood then */
  recordedWith: RecordedWith | null
}

export interface JobState {
  job: JobFields & { id: string; demo: boolean; createdAt: string; updatedAt: string }
  setups: Setup[]
  /** step the job stands at; null before the first */
  head: string | null
  /** the step that stepping forward leads to */
  forward: string | null
  tray: TrayItem[]
  /** every step of the job, other branches and failed ones included, in order of making */
  steps: Step[]
}

/** The step that the next one comes behind: the last that waits or runs, else where the job stands. */
export function endOf(head: string | null, steps: readonly Pick<Step, 'id' | 'state' | 'preview'>[]): string | null {
  return steps.findLast((s) => !s.preview && (s.state === 'queued' || s.state === 'running'))?.id ?? head
}

export interface OperationInfo {
  name: string
  version: number
  title: string
  about: string
  inputs: Record<string, { kinds: string[]; many?: boolean; optional?: boolean; about: string }>
  outputs: Record<string, { kind: string; many?: boolean; replaces?: string; about: string }>
  /** JSON schema of the settings, with defaults and, in the descriptions, units */
  settings: Record<string, unknown>
}

/** Pushed to the browser while a step runs, and when a job changed in any way. */
export type ServerEvent =
  | { type: 'progress'; job: string; step: string; progress: number; phase: string; remaining: number | null }
  | { type: 'changed'; job: string }
  | { type: 'scanner'; scanner: string }
