import { z } from 'zod'
import { recipeSchema } from '@oak-gauge/core/operations/recipeshape.ts'
import { fileQuery, headRequest, jobFields, jobPatch, recipeRequest, rerunRequest, setupFields, slotPatch, stepRequest } from './job.ts'
import { cadSurface, jobState, jobSummary, openUpload, operationInfo, step } from './ledger.ts'
import { captureRun, mappingRun, runState } from './runs.ts'
import * as s from './scanners.ts'
import { link as scannerLink } from './scanners.ts'

/**
 * Every request that Oak Gauge answers, in one table: the server takes methods, paths and shapes from it, the browser part its requests, and the description
 * of the interface (OpenAPI) is made from it.
 */
export const VERSION = 'v1'
export const BASE = `/api/${VERSION}`

export interface Endpoint {
  /** what it does, in a few words */
  title: string
  about?: string
  method: 'get' | 'post' | 'put' | 'patch' | 'delete'
  /** below BASE; `:name` stands for an id or a word */
  path: string
  query?: z.ZodObject
  /** a shape of JSON, or a media type of a body that is taken as it comes */
  body?: z.ZodType | `${string}/${string}`
  /** of the answer when all is well; 200 where nothing is said */
  status?: number
  /** a shape of JSON, or a media type; left out: an answer without a body */
  answer?: z.ZodType | `${string}/${string}`
  /** there may be nothing (yet): 204 */
  maybe?: boolean
}
const endpoint = <const E extends Endpoint>(e: E) => e

/** What is asked of a list. */
export const pageQuery = z.object({
  limit: z.coerce.number().int().min(1).max(500).default(200).describe('Most that are wanted.'),
  after: z.uuid().optional().describe('`next` of the page before.'),
})
const page = <S extends z.ZodType>(of: S) =>
  z.strictObject({ items: z.array(of), next: z.uuid().nullable().describe('Of the page that follows; null after the last.') })

const bytes = z.strictObject({ bytes: z.int() })
const nothing = z.strictObject({})
const BYTES = 'application/octet-stream'
const JSON_FILE = 'application/json'
const captured = z.object({
  version: z.coerce.number().int().describe('Of the model; another than the newest gives nothing.'),
  from: z.coerce.number().int().min(0).default(0).describe('Cubes that are known.'),
})
const fromFrame = z.object({ from: z.coerce.number().int().min(0).default(0).describe('Frames that are known.') })
const after = z.object({
  after: z.coerce.number().default(-1).describe('Sequence of what is known: answered as soon as there is something newer, or after 5 s.'),
})

const health = z
  .strictObject({
    ok: z.boolean(),
    database: z.strictObject({ milliseconds: z.number() }).describe('How long it took to answer.'),
    queue: z.strictObject({ waiting: z.int(), running: z.int() }).describe('Steps of all jobs.'),
    processes: z.strictObject({ web: z.int(), sessions: z.int(), worker: z.int() }).describe('That work on this database.'),
    scanners: z
      .array(z.strictObject({ name: z.string(), link: scannerLink }))
      .nullable()
      .describe('Those that are switched on; null while the process that keeps them does not answer.'),
    space: z
      .strictObject({ free: z.number(), total: z.number() })
      .nullable()
      .describe('Bytes of the disk that the database lies on; null where that cannot be told.'),
    stalls: z.strictObject({ longest: z.number(), mean: z.number() }).describe('How long the event loop was held up at once in the last minute, ms.'),
  })
  .meta({ id: 'Health' })
export type Health = z.output<typeof health>

export const API = {
  health: endpoint({
    title: 'Whether the program works',
    method: 'get',
    path: '/health',
    answer: health,
  }),
  operations: endpoint({
    title: 'Operations',
    about: 'What a step may be: inputs, outputs and settings of each.',
    method: 'get',
    path: '/operations',
    answer: page(operationInfo),
  }),
  events: endpoint({
    title: 'Events',
    about:
      'Server-sent events: a step goes on, a job or a scanner changed. Say Last-Event-ID when you come back, and hear what you missed; “everything” says that this is not known.',
    method: 'get',
    path: '/events',
    query: z.object({ job: z.uuid().optional() }),
    answer: 'text/event-stream',
  }),

  jobs: endpoint({ title: 'Jobs', about: 'In the order of making.', method: 'get', path: '/jobs', query: pageQuery, answer: page(jobSummary) }),
  createJob: endpoint({ title: 'New job', method: 'post', path: '/jobs', body: jobFields, status: 201, answer: jobState }),
  job: endpoint({ title: 'A job', about: 'Its tray and all of its steps.', method: 'get', path: '/jobs/:id', answer: jobState }),
  patchJob: endpoint({
    title: 'Change a job',
    about: 'What is not named stays as it is.',
    method: 'patch',
    path: '/jobs/:id',
    body: jobPatch,
    answer: jobState,
  }),
  deleteJob: endpoint({ title: 'Delete a job', about: 'With all of its data.', method: 'delete', path: '/jobs/:id', status: 204 }),
  addSetup: endpoint({ title: 'New setup', method: 'post', path: '/jobs/:id/setups', body: setupFields, status: 201, answer: jobState }),
  renameSetup: endpoint({ title: 'Rename a setup', method: 'patch', path: '/jobs/:id/setups/:setup', body: setupFields, answer: jobState }),
  moveToSetup: endpoint({ title: 'Put an item into a setup', method: 'patch', path: '/jobs/:id/slots/:slot', body: slotPatch, answer: jobState }),
  moveHead: endpoint({
    title: 'Step back or forward',
    about: 'The job stands behind another step; nothing is deleted.',
    method: 'post',
    path: '/jobs/:id/head',
    body: headRequest,
    answer: jobState,
  }),
  recipe: endpoint({
    title: 'The steps as a recipe',
    about: 'For other parts of the same kind.',
    method: 'get',
    path: '/jobs/:id/recipe',
    answer: recipeSchema.extend({ steps: z.array(recipeSchema.shape.steps.element).describe('None of a job that has none yet; such a recipe cannot be run.') }),
  }),

  runStep: endpoint({
    title: 'Run an operation',
    about: 'Taken on at once, and computed behind what waits; the step says when it is done.',
    method: 'post',
    path: '/jobs/:id/steps',
    body: stepRequest,
    status: 202,
    answer: step,
  }),
  runRecipe: endpoint({
    title: 'Run a recipe',
    about:
      'All of its steps on what lies on the tray; one that fails takes the job back to where it stood. Inputs that are not named are found by their kind: passes by setup, the nominal, the mesh.',
    method: 'post',
    path: '/jobs/:id/recipe',
    body: recipeRequest,
    status: 202,
    answer: z.array(step),
  }),
  rerunStep: endpoint({
    title: 'Run a step with other settings',
    about: 'And all steps that follow it once more.',
    method: 'post',
    path: '/jobs/:id/steps/:step/rerun',
    body: rerunRequest,
    status: 202,
    answer: z.array(step),
  }),
  cancelStep: endpoint({ title: 'Cancel a step', method: 'post', path: '/jobs/:id/steps/:step/cancel', status: 202, answer: nothing }),
  dismissStep: endpoint({
    title: 'Forget a step',
    about: 'One that failed, was cancelled or only shown.',
    method: 'delete',
    path: '/jobs/:id/steps/:step',
    status: 204,
  }),
  stepItems: endpoint({
    title: 'What a step made',
    about: 'Of previews above all: those are not on the tray.',
    method: 'get',
    path: '/jobs/:id/steps/:step/items',
    answer: z.array(z.strictObject({ id: z.uuid(), port: z.string(), place: z.int() })),
  }),
  picture: endpoint({ title: 'Picture of what a step made', method: 'get', path: '/jobs/:id/steps/:step/picture', answer: 'image/png' }),

  bringFile: endpoint({
    title: 'Bring a file in',
    about: 'The body is the file itself. The step that reads it is queued at once.',
    method: 'put',
    path: '/jobs/:id/files',
    query: fileQuery,
    body: 'application/octet-stream',
    status: 202,
    answer: step,
  }),
  uploads: endpoint({
    title: 'Files of a job that have not come whole',
    about: 'They can be gone on with for a day after the last byte.',
    method: 'get',
    path: '/jobs/:id/uploads',
    answer: z.array(openUpload),
  }),
  beginUpload: endpoint({
    title: 'Begin to bring a file in, in parts',
    about:
      'For large files and weak networks: the open protocol tus 1.0.0 (tus.io; creation, termination). Upload-Length is its size, Upload-Metadata holds job, name and, if wanted, role, setup, unit and modified. Location names the upload.',
    method: 'post',
    path: '/uploads',
    status: 201,
  }),
  continueUpload: endpoint({
    title: 'The next part of it',
    about: 'From Upload-Offset on; HEAD tells where it stands. Behind the last part the step that reads the file is queued.',
    method: 'patch',
    path: '/uploads/:id',
    body: 'application/offset+octet-stream',
    status: 204,
  }),
  forgetUpload: endpoint({ title: 'Give it up', method: 'delete', path: '/uploads/:id', status: 204 }),
  display: endpoint({
    title: 'Arrays of an item',
    about: 'The display level, or with whole=1 all of it, in one container (see the guide).',
    method: 'get',
    path: '/items/:id/display',
    query: z.object({ whole: z.literal('1').optional() }),
    answer: BYTES,
  }),
  surfaces: endpoint({ title: 'What each face of a CAD nominal is', method: 'get', path: '/items/:id/surfaces', answer: z.array(cadSurface) }),
  file: endpoint({
    title: 'An item as a file',
    method: 'get',
    path: '/items/:id/file',
    query: z.object({ format: z.string().default('stl').describe('stl, ply, obj, 3mf, xyz or csv.') }),
    answer: BYTES,
  }),
  fileSize: endpoint({
    title: 'Exact size of that file',
    method: 'get',
    path: '/items/:id/file-size',
    query: z.object({ format: z.string().default('stl') }),
    answer: bytes,
  }),
  placement: endpoint({ title: 'Where the markers of a plan go, to print', method: 'get', path: '/items/:id/placement.pdf', answer: 'application/pdf' }),

  scanners: endpoint({ title: 'Scanners', method: 'get', path: '/scanners', query: pageQuery, answer: page(s.scannerSummary) }),
  addScanner: endpoint({
    title: 'New scanner',
    about: 'By its address: it says itself what it is.',
    method: 'post',
    path: '/scanners',
    body: s.addScanner,
    status: 201,
    answer: s.scannerSummary,
  }),
  scanner: endpoint({ title: 'A scanner', method: 'get', path: '/scanners/:id', answer: s.scannerDetail }),
  patchScanner: endpoint({
    title: 'Switch on or off, set the exposure',
    method: 'patch',
    path: '/scanners/:id',
    body: s.scannerPatch,
    answer: s.scannerSummary,
  }),
  dropScanner: endpoint({
    title: 'Drop a stand-in',
    about: 'What happens to scanners.',
    method: 'post',
    path: '/scanners/:id/drop',
    status: 202,
    answer: nothing,
  }),
  notes: endpoint({
    title: 'Notes of a scanner',
    about: 'Newest first.',
    method: 'get',
    path: '/scanners/:id/notes',
    query: pageQuery,
    answer: page(s.scannerNote),
  }),
  startCalibration: endpoint({
    title: 'Begin a calibration',
    method: 'post',
    path: '/scanners/:id/calibrations',
    body: s.startCalibration,
    status: 202,
    answer: runState,
  }),
  startVerification: endpoint({
    title: 'Begin a verification',
    method: 'post',
    path: '/scanners/:id/verifications',
    body: s.startVerification,
    status: 202,
    answer: runState,
  }),
  startMapping: endpoint({ title: 'Begin to map markers', method: 'post', path: '/jobs/:id/mapping', body: s.startMapping, status: 202, answer: runState }),
  startCapture: endpoint({
    title: 'Begin to record',
    about: 'With the scanner and the setup; nothing is recorded before it is asked for.',
    method: 'post',
    path: '/jobs/:id/capture',
    body: s.startCapture,
    status: 202,
    answer: runState,
  }),
  run: endpoint({ title: 'What goes on with a scanner', method: 'get', path: '/scanners/:id/run', answer: runState.nullable() }),
  actOnRun: endpoint({
    title: 'Act on what goes on',
    about:
      'Calibration: hand, skip, solve, on, cancel. Verification: take, take-all, cancel. Mapping: hold, on, end, cancel, path, hand, nudge. Capture: record, hold, end, cancel, path, hand, back, shots, again, leave-out, light, floor, place-anew. press: the button of a stand-in. hand and nudge carry how far, leave-out all spans that are left out, light its exposure, spot or pattern, floor what lies beneath the part, place-anew the spacing and the limits.',
    method: 'post',
    path: '/scanners/:id/run/:what',
    // which shape it is to have, what is acted on says: a move of the hand read as a nudge would lose what it says
    body: z.looseObject({}),
    status: 202,
    answer: runState,
  }),
  live: endpoint({
    title: 'Newest images of a calibration',
    about: 'With what was found in them, in one container.',
    method: 'get',
    path: '/scanners/:id/live',
    query: after,
    answer: BYTES,
    maybe: true,
  }),
  mapping: endpoint({ title: 'Newest state of a mapping', method: 'get', path: '/scanners/:id/mapping', query: after, answer: mappingRun, maybe: true }),
  capture: endpoint({ title: 'Newest state of a recording', method: 'get', path: '/scanners/:id/capture', query: after, answer: captureRun, maybe: true }),
  captured: endpoint({
    title: 'What was recorded so far, as it is tracked',
    about: 'Cubes of the surface in the order in which they were first seen: middle (3), direction it was seen from (3), frames that saw it; 32-bit floats.',
    method: 'get',
    path: '/scanners/:id/captured',
    query: captured,
    answer: BYTES,
    maybe: true,
  }),
  timeline: endpoint({
    title: 'How a recording goes, frame by frame',
    about:
      'From that frame on. Four 32-bit floats a frame: s since the first one; what became of it (0 placed, 1 weak, 2 lost, 3 too late to be tracked, 4 left out); how well it is held along its weakest motion, mm (1 sigma, NaN where that is not known); cubes of the model known by then.',
    method: 'get',
    path: '/scanners/:id/timeline',
    query: fromFrame,
    answer: BYTES,
    maybe: true,
  }),
  bringImage: endpoint({
    title: 'Bring an image in',
    about: 'One of a recorded pair, for a calibration from files. When both have come they are measured.',
    method: 'put',
    path: '/scanners/:id/images',
    query: s.imageQuery,
    body: 'image/*',
    answer: runState,
  }),
  putIntoUse: endpoint({ title: 'Put a calibration into use', method: 'post', path: '/scanners/:id/use/:calibration', answer: s.scannerDetail }),
  calibration: endpoint({ title: 'A calibration', method: 'get', path: '/calibrations/:id', answer: s.calibrationDetail }),
  calibrationFile: endpoint({
    title: 'A calibration as a file',
    about: 'Everything it was computed from, for whoever wants to compute it again.',
    method: 'get',
    path: '/calibrations/:id/file',
    answer: JSON_FILE,
  }),
  verification: endpoint({ title: 'A verification', method: 'get', path: '/verifications/:id', answer: s.verificationDetail }),
  certificate: endpoint({ title: 'A verification as a sheet of paper', method: 'get', path: '/verifications/:id/certificate.pdf', answer: 'application/pdf' }),
  artefacts: endpoint({ title: 'Plates and ball bars', method: 'get', path: '/artefacts', query: pageQuery, answer: page(s.artefactSummary) }),
  addArtefact: endpoint({
    title: 'Bring a certificate in',
    about: 'The body is the file of a plate or a ball bar.',
    method: 'put',
    path: '/artefacts',
    query: z.object({ name: z.string().max(255).default('certificate') }),
    body: 'text/plain',
    status: 201,
    answer: s.artefactSummary,
  }),
  artefactFile: endpoint({ title: 'A certificate as a file', method: 'get', path: '/artefacts/:id/file', answer: JSON_FILE }),
}
export type Api = typeof API

type Parsed<S> = S extends z.ZodType ? z.output<S> : undefined
export type QueryOf<E extends Endpoint> = Parsed<E['query']>
export type BodyOf<E extends Endpoint> = Parsed<E['body']>
export type AnswerOf<E extends Endpoint> = Parsed<E['answer']>
/** What is to be said for each `:name` of a path. */
export type ParamsOf<P extends string> = P extends `${string}:${infer N}/${infer R}`
  ? Record<N, string> & ParamsOf<`/${R}`>
  : P extends `${string}:${infer N}`
    ? Record<N, string>
    : unknown

/** The address of an endpoint below BASE, with every id in its place. */
export function pathOf<const E extends Endpoint>(e: E, params: ParamsOf<E['path']>): string {
  return e.path.replace(/:(\w+)/g, (_all, name: string) => encodeURIComponent((params as Record<string, string>)[name]))
}
/** The whole address, for a link or for fetch. */
export const addressOf = <const E extends Endpoint>(e: E, params: ParamsOf<E['path']>, query: Record<string, string> = {}): string => {
  const q = new URLSearchParams(query).toString()
  return `${BASE}${pathOf(e, params)}${q && `?${q}`}`
}
