import { z } from 'zod'
import { OakError } from '../base/errors.ts'
import { identity, invertRigid, multiply, type Mat4 } from '../base/mat4.ts'
import { subProgress, type RunContext } from '../base/run.ts'
import { inAxesOfMap } from '../capture/holder.ts'
import { rehearseRecording, type RehearsedRecording, type RehearsedScanner } from '../capture/rehearse.ts'
import { solveRecording, type SolvedRecording } from '../capture/solverecording.ts'
import { turned } from '../markers/levelled.ts'
import type { Markers } from '../markers/markers.ts'
import { stereoSight } from '../markers/sight.ts'
import { tiled, upright, UPS, uprightPose } from '../markers/plan/shape.ts'
import { lineNoise } from '../scanner/linenoise.ts'
import { designedStereo, stereoSchema } from '../scanner/spec.ts'
import type { Mesh } from '../shape/mesh.ts'
import type { Points } from '../shape/points.ts'
import { COVERAGE } from '../uncertainty/contribution.ts'
import { inspectedQuantities, inspectPass, LEAST_COVERED, MOST_FACES, type InspectedPass } from './inspect-pass.ts'
import { defineOperation, type Evidence, type FaceForetold, type Item } from './operation.ts'
import { q, type Quantity } from './quantities.ts'
import { outsideOf } from './solve-recording.ts'

/** a wide pair of cameras, where nothing is said of the scanner */
const PLAIN = designedStereo({ width: 1024, height: 768, focal: 1050, baseline: 140, crossing: 400 })
/** sigma of a marker's place in a map that is yet to be made, mm */
const MAPPED = 0.01
/** Measured on the bracket, foretold / real coverage: 150 frames of an area 53 / 60 %, 300 58 / 60; of lines 150 43 / 51, 300 44, 600 49. */
const FRAMES = { area: 300, cross: 600, line: 2000 }
/** of fewer frames nothing is foretold: the first one always has a place */
const HELD = 5
/** it looks down, or it is hidden: cosine of its way out against upwards */
const DOWN = -0.3

export const rehearsedScanner = z.object({
  optics: stereoSchema.default(PLAIN),
  range: z.object({ near: z.number().positive(), ideal: z.number().positive(), far: z.number().positive() }).default({ near: 250, ideal: 400, far: 550 }),
  pattern: z.enum(['area', 'cross', 'line']).default('cross'),
  stride: z.number().int().min(1).max(32).optional(),
  along: z.number().int().min(1).max(32).optional(),
  located: z.number().positive().max(1).default(0.03),
  rate: z.number().positive().max(1000).default(15),
  colour: z.boolean().default(false),
  way: z.enum(['hand', 'arm', 'table']).default('hand'),
  own: z.object({ mm: z.number().positive(), degrees: z.number().positive() }).optional(),
  distance: z.object({ error: z.number(), U: z.number().nonnegative() }).nullable().default(null),
})

const settings = z.object({
  by: z
    .enum(['markers', 'shape', 'both', 'own'])
    .default('shape')
    .describe(
      'What holds the frames. Markers need a plan of them; own: what an arm or a turntable says of itself; both: that, or markers, together with shape.',
    ),
  up: z.enum(UPS).default('+z').describe('Which way of the job is up as the part stands.'),
  spacing: z.number().min(0.1).max(20).default(1).describe('Spacing of the surface, mm.'),
  surface: z.enum(['matte', 'dark', 'glossy', 'see-through']).default('matte').describe('How the surface answers light.'),
  exposure: z.number().min(0.05).max(20).default(1).describe('1: matt white at the ideal distance is well exposed.'),
  table: z.boolean().default(false).describe('A table under the part is measured as well, and helps to hold the frames.'),
  seconds: z
    .number()
    .min(2)
    .max(1200)
    .default(40)
    .describe('How long the scanner is led round the part by hand, s; as many times that for what is tall as one goes round it.'),
  shots: z.number().int().min(2).max(72).default(8).describe('Shots of a turntable, once round.'),
  frames: z
    .number()
    .int()
    .min(20)
    .max(2000)
    .optional()
    .describe(
      'Frames that are made, spread over the whole way. Default: 300 of an area, 600 of crossing lines, 2000 of single ones, or as many as a real recording has.',
    ),
  limit: z.number().positive().default(0.1).describe('Tolerance: fine inside plus / minus this, mm.'),
  scanner: rehearsedScanner
    .prefault({})
    .describe(
      'What sees: optics, working range (mm), pattern, px between samples, px by which a place is located, frames a second, how it goes over the part, how well it knows where it is (mm, degrees), and its verified distance error (mm).',
    ),
})
type Params = z.output<typeof settings>

export const rehearseRecordingOperation = defineOperation({
  name: 'rehearse-recording',
  version: 4,
  title: 'Rehearse a recording',
  stage: 'Capture',
  shows: ['covered', 'foretold-u', 'frames-not-placed'],
  about:
    'Records the nominal in simulation, solves and inspects that as a real recording, and says what will be covered, where tracking will be weak, how many points, and how well each face will be known.',
  params: settings,
  inputs: {
    shape: { kinds: ['mesh', 'points'], about: 'the part: nominal, earlier mesh, or a rough pass' },
    plan: { kinds: ['markers'], optional: true, about: 'where its markers will stick' },
  },
  outputs: {},
  async run(inputs, params, ctx) {
    const [item] = inputs['shape'] as Item<Mesh | Points>[]
    const [plan] = (inputs['plan'] ?? []) as (Item<Markers> | undefined)[]
    const { scanner } = params
    if (params.by === 'own' && !scanner.own)
      throw new OakError('missing-input', 'Frames are to be held by what the scanner says of itself, and this one says nothing.', {
        where: 'rehearse-recording, by',
        remedy: 'Let markers or shape hold the frames.',
      })
    if (params.by !== 'shape' && !plan && !scanner.own)
      throw new OakError('missing-input', 'Frames are to be held by markers, and there is no plan of them.', {
        where: 'rehearse-recording, plan',
        remedy: 'Plan the markers first, or let shape hold the frames.',
      })
    const part = upright(item.data.kind === 'points' ? tiled(item.data) : item.data, item.pose, params.up)
    if (!part.triangles.length) throw new OakError('empty', `${item.name} is empty: there is nothing to rehearse on.`, { remedy: 'Choose another part.' })
    const markers = plan && turned(plan.data, multiply(uprightPose(params.up), plan.pose))
    const rehearsed = await rehearseRecording(
      { part, table: params.table, surface: params.surface, ...(markers ? { markers } : {}) },
      scanner,
      { ...params, frames: params.frames ?? FRAMES[scanner.pattern] },
      subProgress(ctx, 0, 0.4),
    )
    const solved = await solve(rehearsed, scanner, params, markers, subProgress(ctx, 0.4, 0.75))
    const foretold =
      solved &&
      (await inspectPass(
        solved.points,
        params.by === 'shape' ? axesOf(solved, rehearsed.truth) : identity(),
        part,
        { ...params, distance: scanner.distance, held: solved.sigma.median },
        subProgress(ctx, 0.75, 1),
      ))
    return { outputs: {}, evidence: evidenceOf(rehearsed, solved, foretold, params) }
  },
})

async function solve(
  r: RehearsedRecording,
  scanner: RehearsedScanner,
  p: Params,
  markers: Markers | undefined,
  ctx: RunContext,
): Promise<SolvedRecording | undefined> {
  try {
    const solved = await solveRecording(
      r.frames,
      {
        by: p.by,
        together: false,
        lines: scanner.way === 'arm',
        ...(scanner.own ? { own: scanner.own } : {}),
        spacing: p.spacing,
        noise: lineNoise(scanner.optics, scanner.range.ideal),
        ...(markers && inAxesOfMap(p.by)
          ? { markers: { map: { ...markers, sigma: Array.from(markers.diameters, () => MAPPED) }, sight: stereoSight(scanner.optics) } }
          : {}),
      },
      ctx,
    )
    return solved.placed.length < HELD ? undefined : solved
  } catch (e) {
    // that nothing is held is an answer
    if (e instanceof OakError && e.code === 'nothing-placed') return undefined
    throw e
  }
}

/** From the axes of the first frame to where it truly was: a person sees there what is what, here nobody looks. The best fit does the rest. */
function axesOf(s: SolvedRecording, truth: Map<number, Mat4>): Mat4 {
  const { time, pose } = s.placed[s.placed.length >> 1]
  return multiply(truth.get(time) ?? identity(), invertRigid(pose))
}

function evidenceOf(r: RehearsedRecording, s: SolvedRecording | undefined, f: InspectedPass | undefined, p: Params): Evidence {
  const { expected } = r
  const outside = s ? r.frames.length - s.placed.length : r.frames.length
  const quantities: Quantity[] = [
    ...inspectedQuantities(f, p.limit),
    q('frames-not-placed', Math.round((expected.frames * outside) / r.frames.length)),
    q('seconds', expected.seconds),
    q('frames', expected.frames),
    q('points-measured', expected.points),
    q('megabytes', expected.bytes / 1e6),
    ...(f ? [q('deviation-rms', f.rms)] : []),
    ...(s && Number.isFinite(s.sigma.median) ? [q('frame-sigma-median', s.sigma.median)] : []),
    ...(s && Number.isFinite(s.sigma.worst) ? [q('frame-sigma-worst', s.sigma.worst)] : []),
    q('too-dark', 100 * r.dark),
    q('too-bright', 100 * r.bright),
    ...(s ? outsideOf(s) : []),
  ]
  return {
    quantities,
    warnings: warningsOf(r, s, f, p),
    // as fast as it would really go, though fewer frames are made
    ...(s ? { timeline: { ...s.timeline, rate: s.timeline.rate.map((v) => (v * expected.frames) / r.frames.length) } } : {}),
    ...(f ? { faces: f.faces } : {}),
  }
}

/** share of the light beyond which an exposure is wrong */
const TOO_MUCH = 0.2

function warningsOf(r: RehearsedRecording, s: SolvedRecording | undefined, f: InspectedPass | undefined, p: Params): string[] {
  const out: string[] = []
  if (!s || !f)
    return [
      p.by === 'shape'
        ? 'Its shape holds no frame: it is free to slide or turn. It needs markers.'
        : 'No frame is held: too few of the planned markers are in view. Plan more of them.',
    ]
  const outside = (r.frames.length - s.placed.length) / r.frames.length
  if (outside > 0.05)
    out.push(
      `${Math.round(100 * outside)} % of the way cannot be placed with certainty. ` +
        (p.by === 'shape'
          ? 'Let markers hold the frames, or measure the table with it.'
          : p.by === 'own' || p.scanner.own
            ? 'There it does not lie where the scanner says.'
            : 'Plan more markers there.'),
    )
  const under = f.coverage.faces.slice(0, MOST_FACES).map((x) => x.normal[2] < DOWN)
  const [down, hidden] = [true, false].map((d) => f.faces.filter((x, i) => x.covered < LEAST_COVERED && under[i] === d))
  const list = (faces: FaceForetold[]) =>
    `${faces
      .slice(0, 3)
      .map((x) => x.of)
      .join('; ')}${faces.length > 3 ? `, and ${faces.length - 3} more` : ''}`
  if (outside < 0.5 && down.length) out.push(`Looks down, and is not seen in this setup: ${list(down)}. Another one with the part turned over shows it.`)
  if (outside < 0.5 && hidden.length)
    out.push(
      `Hidden from this way round, or too little of it seen: ${list(hidden)}. ${p.scanner.way === 'table' ? 'Take more shots, or let it lie otherwise in another setup.' : 'Lead the scanner there by hand.'}`,
    )
  if (r.dark > TOO_MUCH) out.push(`${Math.round(100 * r.dark)} % of the light is too dark to be seen: expose longer.`)
  if (r.bright > TOO_MUCH) out.push(`${Math.round(100 * r.bright)} % of the light is too bright: expose shorter.`)
  if (!p.scanner.distance) out.push('How far the scanner is off is not known: verify it on the ball bar, or nothing will be decidable.')
  const vague = f.faces.filter((x) => x.covered >= LEAST_COVERED && x.parts?.some((c) => c.source === 'surface' && c.u === 'unknown'))
  if (vague.length) out.push(`Too little of it lies together to tell how well it will be known: ${list(vague)}.`)
  const wide = f.faces.filter((x) => x.u !== 'unknown' && COVERAGE * x.u > p.limit)
  if (wide.length) out.push(`A tolerance of ± ${p.limit} mm cannot be decided with this scanner on: ${list(wide)}.`)
  return out
}
