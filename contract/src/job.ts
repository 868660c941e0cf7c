import { z } from 'zod'
import { recipeSchema } from '@oak-gauge/core/operations/recipeshape.ts'

/** What is asked about jobs. Types are inferred, so that both sides read the same page. */

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
export const recipeRequest = z.object({
  ...asked,
  recipe: recipeSchema,
  /** slots for the names that the recipe wants; those that are left out are found by their kind */
  inputs: z.record(z.string(), z.array(z.uuid())).default({}),
})
export const headRequest = z.object({ after: asked.after, step: z.uuid().nullable() })
export const fileQuery = z.object({
  request: asked.request,
  name: z.string().min(1).max(255),
  role: z.enum(['pass', 'nominal', 'mesh', 'marker-map']).optional(),
  setup: z.uuid().optional(),
  unit: unitSchema.optional(),
})

/** What is said of a file that comes in several parts (tus: Upload-Metadata). */
export const uploadTold = fileQuery.omit({ request: true }).extend({
  job: z.uuid(),
  /** when it was last changed, ms since 1970: tells two files of one name apart */
  modified: z.coerce.number().optional(),
})
export type UploadTold = z.output<typeof uploadTold>
