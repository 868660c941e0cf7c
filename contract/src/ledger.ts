import { z } from 'zod'
import type { CadSurface } from '@oak-gauge/core/base/cad.ts'
import { QUANTITIES, type named, type QuantityId } from '@oak-gauge/core/operations/quantities.ts'
import { STAGES } from '@oak-gauge/core/operations/stages.ts'
import { SOURCES } from '@oak-gauge/core/uncertainty/contribution.ts'
import { fileQuery, jobFields, ROLES } from './job.ts'
import { problem } from './problem.ts'

/** Answers about jobs: what the ledger holds, and what lies on the tray. Lengths in mm. */

export const when = z.iso.datetime().describe('UTC.')
export const triple = z.tuple([z.number(), z.number(), z.number()])
const numbers = z.array(z.number()).readonly()
const matrix = z.array(z.number()).length(16).describe('4 x 4, row by row, mm.')
const uncertainty = z.union([z.number(), z.literal('unknown')])
const kind = z.enum(['points', 'mesh', 'field', 'markers'])

const contributions = z
  .array(z.strictObject({ source: z.enum(Object.keys(SOURCES) as [keyof typeof SOURCES]), u: uncertainty, stated: z.boolean().exactOptional() }))
  .describe('What that is made of, mm; stated: a person said so.')

const namedQuantity = z
  .strictObject({
    id: z.enum(Object.keys(QUANTITIES) as [QuantityId, ...QuantityId[]]),
    name: z.string().describe('The words for it.'),
    value: z.union([z.number(), z.string()]),
    unit: z.string(),
    u: uncertainty.exactOptional().describe('Standard uncertainty in the same unit.'),
    parts: contributions.exactOptional(),
    of: z.string().exactOptional().describe('The item it is of.'),
    at: z.number().exactOptional().describe('The figure it was asked at.'),
  })
  .meta({ id: 'Quantity' })
/** A quantity with the words for it. */
export type NamedQuantity = z.output<typeof namedQuantity>

const poseUncertainty = z.strictObject({
  of: z.string(),
  about: numbers.describe('Centre of the turns, mm.'),
  covariance: numbers.nullable().describe('6 x 6, row by row, of turn (rad) and shift (mm); null where it is not known.'),
  free: z.array(numbers).readonly().optional().describe('Motions that nothing holds.'),
  box: numbers.optional().describe('Where its surface lies: least x y z, largest x y z, mm.'),
})
const motion = z.strictObject({ kind: z.enum(['turn', 'slide', 'screw']), axis: triple, through: triple, size: z.number(), of: z.array(z.string()) })

const faceForetold = z
  .strictObject({
    of: z.string().describe('As a person would point at it.'),
    face: z.number().int().describe('Its number in the nominal, or of the side it looks to.'),
    area: z.number().describe('mm2'),
    covered: z.number().describe('Share of it, 0 to 1.'),
    u: uncertainty.describe('Standard uncertainty of a place on it, mm.'),
    parts: contributions.exactOptional(),
  })
  .meta({ id: 'FaceForetold' })

const shares = z.array(z.number()).describe('Empty: none in any part.')
const timeline = z
  .strictObject({
    seconds: z.number().describe('From the first frame to the last.'),
    rate: z.array(z.number()).describe('Frames a second.'),
    shares: z
      .strictObject({ placed: shares, weak: shares, lost: shares, late: shares, out: shares })
      .describe('Of the frames of a part, by what became of them.'),
    sigma: z.array(z.number().nullable()).describe('Median of how well its frames are held along their weakest motion, mm (1 sigma).'),
    known: z.array(z.number()).describe('Points of the pass up to the end of a part, in their order.'),
  })
  .meta({ id: 'Timeline' })

const evidence = z
  .strictObject({
    quantities: z.array(namedQuantity).describe('Most telling first.'),
    histogram: z.strictObject({ edges: z.array(z.number()), shares: z.array(z.number()), unit: z.string() }).exactOptional(),
    warnings: z.array(z.string()).describe('What a careful person should know before going on.'),
    poses: z.array(poseUncertainty).exactOptional().describe('How well the poses are known that the step gave.'),
    motions: z.array(motion).exactOptional().describe('Motions that nothing holds, and of what.'),
    timeline: timeline.exactOptional().describe('Of a recording: how it went, in parts of equal length.'),
    faces: z.array(faceForetold).exactOptional().describe('Of a rehearsal: what will be known of its faces, largest first.'),
  })
  .meta({ id: 'Evidence' })
export type StepEvidence = z.output<typeof evidence>

export const recordedWith = z
  .strictObject({
    scanner: z.string(),
    calibration: z.string().nullable(),
    state: z.string(),
    reason: z.string(),
    distance: z
      .strictObject({ error: z.number(), U: z.number() })
      .nullable()
      .exactOptional()
      .describe('Largest error of a sphere distance at its last verification, mm, with its expanded uncertainty (k = 2).'),
  })
  .meta({ id: 'RecordedWith' })
export type RecordedWith = z.output<typeof recordedWith>

export const STEP_STATES = ['queued', 'running', 'done', 'failed', 'cancelled'] as const
const slots = z.record(z.string(), z.array(z.string()))
export const step = z
  .strictObject({
    id: z.uuid(),
    parent: z.uuid().nullable().describe('The step it came behind.'),
    seq: z.int(),
    operation: z.string(),
    title: z.string(),
    stage: z.enum(STAGES),
    shows: z.array(z.enum(Object.keys(QUANTITIES) as [QuantityId])).describe('Quantities to show first.'),
    params: z.record(z.string(), z.unknown()),
    inputs: slots.describe('Slots it took, by port.'),
    outputs: slots.describe('Slots it made or changed, by port.'),
    state: z.enum(STEP_STATES),
    preview: z.boolean(),
    progress: z.number().describe('0 to 1.'),
    phase: z.string(),
    evidence: evidence.nullable(),
    problem: problem.nullable(),
    milliseconds: z.number().nullable(),
    reused: z.boolean().describe('Taken from an earlier step that did the same.'),
    createdAt: when,
    file: z.string().nullable().describe('Name of the file it brought in.'),
    recordedWith: recordedWith.nullable(),
  })
  .meta({ id: 'Step' })
export type Step = z.output<typeof step>

export const trayItem = z
  .strictObject({
    id: z.uuid().describe('Of these data: they never change. Files and displays are asked for by it.'),
    slot: z.uuid().describe('Of the thing on the tray: steps take and change it by this.'),
    role: z.enum(ROLES),
    setup: z.uuid().nullable(),
    name: z.string(),
    kind,
    count: z.int().describe('Points, triangles, values or markers.'),
    box: z.array(z.number()).length(6).nullable().describe('In its own coordinates: least x y z, largest x y z, mm.'),
    pose: matrix,
    step: z.uuid().describe('The step that made it.'),
    on: z.uuid().nullable().describe('Of a field: the slot whose vertices or points it speaks of.'),
    shown: z.number().describe('Vertices or points of the display level.'),
    faces: z.int().describe('Triangles of the display level.'),
    spacing: z.number().nullable().describe('Of points: distance between neighbours, mm.'),
    coloured: z.boolean().describe('The colours of the surface were recorded with it.'),
  })
  .meta({ id: 'TrayItem' })
export type TrayItem = z.output<typeof trayItem>

export const setup = z.strictObject({ id: z.uuid(), name: z.string(), place: z.int() }).meta({ id: 'Setup' })
export type Setup = z.output<typeof setup>

const about = z.strictObject({ ...jobFields.shape, ...{ id: z.uuid(), demo: z.boolean(), createdAt: when, updatedAt: when } })
export const jobSummary = about
  .extend({
    stage: z.string().describe('The stage that is at work.'),
    headline: z.string().describe('One line: what is due or what came out.'),
    picture: z.string().nullable().describe('Where the picture of the part lies.'),
    ofNominal: z.boolean().describe('It is a picture of the nominal: nothing was measured yet.'),
    passes: z.int(),
    busy: z.boolean(),
  })
  .meta({ id: 'JobSummary' })
export type JobSummary = z.output<typeof jobSummary>

export const jobState = z
  .strictObject({
    job: about,
    setups: z.array(setup),
    head: z.uuid().nullable().describe('The step the job stands at; null before the first.'),
    forward: z.uuid().nullable().describe('The step that stepping forward leads to.'),
    tray: z.array(trayItem),
    steps: z.array(step).describe('Every step of the job, other branches and failed ones included, in order of making.'),
  })
  .meta({ id: 'Job' })
export type JobState = z.output<typeof jobState>

/** The step that the next one comes behind: the last that waits or runs, else where the job stands. */
export function endOf(head: string | null, steps: readonly Pick<Step, 'id' | 'state' | 'preview'>[]): string | null {
  return steps.findLast((s) => !s.preview && (s.state === 'queued' || s.state === 'running'))?.id ?? head
}

const port = z.strictObject({
  kinds: z.array(kind.or(z.literal('file'))),
  many: z.boolean().optional().describe('Several items, in order.'),
  optional: z.boolean().optional(),
  setups: z.boolean().optional().describe('Items come with the setup they were recorded in, and the result depends on it.'),
  about: z.string(),
})
const outputPort = z.strictObject({
  kind,
  many: z.boolean().optional(),
  replaces: z.string().optional().describe('They take the place of the inputs of that port, one for one.'),
  on: z.string().optional().describe('Of a field: the port of the item whose vertices or points it speaks of.'),
  about: z.string(),
})
export const operationInfo = z
  .strictObject({
    name: z.string(),
    version: z.int(),
    title: z.string(),
    about: z.string(),
    inputs: z.record(z.string(), port),
    outputs: z.record(z.string(), outputPort),
    settings: z.record(z.string(), z.unknown()).describe('JSON schema of the settings, with defaults and, in the descriptions, units.'),
  })
  .meta({ id: 'Operation' })
export type OperationInfo = z.output<typeof operationInfo>

const area = z.number()
const round = { area, point: triple, hollow: z.boolean().describe('The material lies outside of it, as around a bore.') }
export const cadSurface = z
  .discriminatedUnion('kind', [
    z.strictObject({ kind: z.literal('plane'), area, point: triple, normal: triple }),
    z.strictObject({ kind: z.literal('cylinder'), ...round, axis: triple, radius: z.number() }),
    z.strictObject({ kind: z.literal('cone'), ...round, axis: triple, radius: z.number(), halfAngle: z.number() }),
    z.strictObject({ kind: z.literal('sphere'), ...round, radius: z.number() }),
    z.strictObject({ kind: z.literal('torus'), ...round, axis: triple, major: z.number(), minor: z.number() }),
    z.strictObject({ kind: z.literal('free'), area }),
  ])
  .meta({ id: 'CadSurface' })

/**
 * Pushed while a step runs, and when a job or a scanner changed in any way. everything: some of it was not heard, ask for what you show. here: the first word on
 * every connection.
 */
export type ServerEvent =
  | { type: 'here' }
  | { type: 'everything' }
  | { type: 'progress'; job: string; step: string; progress: number; phase: string; remaining: number | null }
  | { type: 'changed'; job: string }
  | { type: 'scanner'; scanner: string }

/** What does not compile when a shape here and the core's own go apart. */
type Same<A extends B, B> = A
export type Checked = [Same<NamedQuantity, ReturnType<typeof named>>, Same<z.output<typeof cadSurface>, CadSurface>]

export const openUpload = z
  .strictObject({
    id: z.uuid(),
    name: z.string(),
    size: z.int().describe('Bytes of the file.'),
    bytes: z.int().describe('That have come.'),
    role: fileQuery.shape.role.unwrap().nullable(),
    setup: z.uuid().nullable(),
    idle: z.number().describe('Seconds since the last of them came.'),
    modified: z.number().nullable().describe('When the file was last changed, ms since 1970, if that was said.'),
  })
  .meta({ id: 'Upload' })
export type OpenUpload = z.output<typeof openUpload>
