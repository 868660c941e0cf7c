import { z } from 'zod'
import { PLATE_TROUBLES, type PlateTrouble } from '@oak-gauge/core/calibrate/platereading.ts'
import type { Match } from '@oak-gauge/core/calibrate/targets.ts'
import { triple } from './ledger.ts'
import { problem } from './problem.ts'
import { barReading, coverage, startCalibration } from './scanners.ts'

/** What goes on with a scanner, as the browser shows it. */

const trouble = z.strictObject({ code: z.enum(PLATE_TROUBLES), message: z.string(), remedy: z.string() })
const movement = { away: z.number(), right: z.number(), down: z.number(), topAway: z.number(), rightAway: z.number(), turn: z.number() }
const match = z.strictObject({ ...movement, good: z.strictObject(movement), nearness: z.number(), matched: z.boolean() })

const calibrationRun = z
  .strictObject({
    kind: z.literal('calibration'),
    way: startCalibration.shape.way,
    plate: z.string(),
    phase: z.enum(['looking', 'waiting', 'solving', 'done', 'failed']),
    target: z.int().describe('Number of the target that is due.'),
    targets: z.int(),
    name: z.string().describe('Of the target.'),
    taken: z.int(),
    skipped: z.int(),
    trouble: trouble.nullable().describe('What stands in the way of this image.'),
    advice: trouble.nullable().describe('What is worth knowing about it.'),
    match: match.nullable(),
    still: z.boolean(),
    coverage: z.strictObject({ left: coverage, right: coverage }),
    cold: z.boolean(),
    problem: problem.nullable(),
    calibration: z.uuid().nullable().describe('The one that came out.'),
  })
  .meta({ id: 'CalibrationRun' })
export type CalibrationRun = z.output<typeof calibrationRun>

const verificationRun = z
  .strictObject({
    kind: z.literal('verification'),
    bar: z.string(),
    phase: z.enum(['ready', 'measuring', 'waiting', 'done', 'failed']),
    positions: z.int(),
    name: z.string().describe('How the bar is to be held next.'),
    readings: z.array(barReading),
    problem: problem.nullable(),
    verification: z.uuid().nullable(),
  })
  .meta({ id: 'VerificationRun' })
export type VerificationRun = z.output<typeof verificationRun>

const mappedMarker = z.strictObject({
  id: z.string(),
  at: triple.describe('mm, in the axes of the map.'),
  diameter: z.number(),
  u: z.number().nullable().describe('Expanded uncertainty (k = 2), worst direction, mm; null until it was solved.'),
  angle: z.number().describe('Widest angle between the views of it, degrees.'),
  sightings: z.int(),
  now: z.boolean(),
  state: z
    .enum(['new', 'frames', 'directions', 'enough', 'gone'])
    .describe('new: not solved yet; frames, directions: what it lacks; enough: it reaches the target.'),
  moved: z.number().nullable().describe('How far it moved, mm.'),
})
/** How well one marker is known while mapping. */
export type MappedMarker = z.output<typeof mappedMarker>

export const mappingRun = z
  .strictObject({
    kind: z.literal('mapping'),
    job: z.uuid(),
    setup: z.uuid(),
    phase: z.enum(['recording', 'held', 'waiting', 'solving', 'done', 'failed']),
    sequence: z.int(),
    frames: z.int(),
    lost: z.int(),
    tracking: z.enum(['first', 'tracked', 'regained', 'lost', 'few', 'none']),
    why: z.string().describe('Why a frame could not be placed.'),
    inView: z.int(),
    fits: z.int(),
    target: z.number(),
    enough: z.int(),
    markers: z.array(mappedMarker),
    moved: z.array(z.strictObject({ id: z.string(), distance: z.number(), uncertainty: z.number(), together: z.array(z.string()) })),
    missing: z.array(z.string()),
    absent: z.array(z.string()).describe('Planned, and not found yet.'),
    added: z.array(z.string()).describe('Neither planned nor in the map before.'),
    scanner: z.strictObject({ at: triple, looks: triple }).nullable().describe('Where the scanner stands and looks, in the axes of the map, mm.'),
    distance: z.number().nullable().describe('From the scanner to the middle of what it sees, mm.'),
    range: z.strictObject({ near: z.number(), ideal: z.number(), far: z.number() }),
    standIn: z.boolean(),
    turntable: z.boolean().describe('A turntable turns what is marked; else a hand leads the scanner.'),
    path: z.number().nullable().describe('The virtual hand follows its path: 0 to 1.'),
    problem: problem.nullable(),
    step: z.uuid().nullable().describe('The step that makes the map.'),
  })
  .meta({ id: 'MappingRun' })
export type MappingRun = z.output<typeof mappingRun>

const place = z.strictObject({ at: triple, looks: triple })
export const captureRun = z
  .strictObject({
    kind: z.literal('capture'),
    job: z.uuid(),
    setup: z.uuid(),
    by: z.enum(['markers', 'shape', 'print', 'both', 'own']),
    map: z.boolean().describe('It grows in the axes of a map of markers; else in its own, or the scanner’s.'),
    spacing: z.number(),
    phase: z.enum(['ready', 'recording', 'held', 'waiting', 'solving', 'done', 'failed']),
    sequence: z.int(),
    frames: z.int().describe('Recorded.'),
    placed: z.int().describe('Of them in the surface.'),
    quarantine: z.int().describe('Wait for their place to be found again.'),
    late: z.int().describe('Came faster than they were tracked: kept, and placed when the recording is solved.'),
    tracking: z.enum(['none', 'first', 'steady', 'weak', 'lost', 'finding']),
    why: z.string().describe('A word for what the state comes from; empty while there is none.'),
    contradicts: z.int().describe('Frames on end that markers hold and that do not lie on what was recorded.'),
    inView: z.int().describe('Markers.'),
    distance: z.number().nullable().describe('From the scanner to the middle of what it sees, mm.'),
    range: z.strictObject({ near: z.number(), ideal: z.number(), far: z.number() }),
    rate: z.number().describe('Frames a second.'),
    delay: z.number().describe('From a frame to what it came to, ms.'),
    sigma: z.number().nullable().describe('How well the last frame is held along its weakest motion, mm (1 sigma).'),
    span: z.int().describe('Times the place was found again.'),
    surface: z.strictObject({ version: z.int(), cubes: z.int() }).describe('What can be had of the model; another version begins anew.'),
    scanner: place.nullable().describe('In the axes of the model, mm.'),
    ghost: place.nullable().describe('Where it was steady last, while it is lost.'),
    bytes: z.number().describe('Kept so far.'),
    seconds: z.number().describe('Recorded so far.'),
    without: z.array(z.tuple([z.number(), z.number()])).describe('Spans that are left out: from and to, s since the first frame.'),
    next: z
      .strictObject({
        views: z.array(
          z.strictObject({
            ...place.shape,
            open: z.number().describe('Share of it that ends in the open.'),
            gain: z.int().describe('Places it would show.'),
            turn: z.number().nullable().describe('Of a turntable, degrees.'),
          }),
        ),
        poor: z.int().describe('Places of the model that end in the open or were seen too seldom.'),
        never: z.int().describe('Of them: what no view shows that a hand can reach.'),
      })
      .nullable()
      .describe('From where it should be seen next; known while it is held.'),
    table: z
      .strictObject({
        angle: z.number().nullable().describe('Of the last shot, degrees.'),
        shots: z.int().describe('Of the present round.'),
        taken: z.int().describe('Of them, so far.'),
        missing: z.boolean().describe('It is looked and shot again where something is missing.'),
      })
      .nullable()
      .describe('A turntable turns the part, and the scanner stands.'),
    near: z.number().nullable().describe('Points nearer along the line of sight count for nothing, mm.'),
    far: z.number().nullable().describe('Points farther away do not either, mm.'),
    floor: z
      .strictObject({
        floor: z.enum(['none', 'table', 'markers']),
        floorMarkers: z.array(z.string()),
        raise: z.number().describe('Towards the part, mm.'),
        markers: z.array(z.string()).describe('Those of the map, by which it may be given.'),
        found: z
          .strictObject({ sigma: z.number().describe('It is flat within, mm (1 sigma).'), beneath: z.number().describe('Share of the model.') })
          .nullable(),
        problem: problem.nullable().describe('Why none was found.'),
      })
      .describe('What lies beneath it is neither shown nor part of the pass.'),
    light: z
      .strictObject({
        exposure: z.number().nullable().describe('1: matt white at the ideal distance is well exposed. Unknown while the scanner is away.'),
        auto: z.boolean().describe('It follows what is seen.'),
        spot: z.tuple([z.number(), z.number(), z.number()]).nullable().describe('Of that what lies around this place of the model, mm.'),
        pattern: z.string().nullable(),
        patterns: z.array(z.string()).describe('What the scanner can project.'),
        seen: z
          .strictObject({ dark: z.number(), bright: z.number() })
          .nullable()
          .describe('Share of what is lit that is too dark to be measured, and that is too bright, 0 to 1; where the scanner says it.'),
      })
      .describe('With what it is lit.'),
    standIn: z.boolean(),
    path: z.number().nullable().describe('The virtual hand follows its path: 0 to 1.'),
    problem: problem.nullable(),
    step: z.uuid().nullable().describe('The step that makes the pass.'),
  })
  .meta({ id: 'CaptureRun' })
export type CaptureRun = z.output<typeof captureRun>

export const runState = z.discriminatedUnion('kind', [calibrationRun, verificationRun, mappingRun, captureRun]).meta({ id: 'Run' })
export type RunState = z.output<typeof runState>

/** What does not compile when a shape here and the core's own go apart. */
type Same<A extends B, B> = A
export type CheckedRuns = [Same<z.output<typeof trouble>, PlateTrouble>, Same<z.output<typeof match>, Match>]
