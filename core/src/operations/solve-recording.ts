import { z } from 'zod'
import { OakError } from '../base/errors.ts'
import { identity, transformPoint } from '../base/mat4.ts'
import { subProgress } from '../base/run.ts'
import { lineWords } from '../align/freemotion.ts'
import { floorOf, floorOfMarkers, isBeneath } from '../capture/floor.ts'
import { bestHold, inAxesOfMap } from '../capture/holder.ts'
import { orderLines, type OrderedLines, type ScannedLine } from '../capture/orderedlines.ts'
import { inReach } from '../capture/reach.ts'
import { solveRecording, type SolvedRecording } from '../capture/solverecording.ts'
import type { Stretch } from '../capture/stretch.ts'
import type { FrameReason } from '../capture/verdict.ts'
import { readFrames } from '../formats/frames.ts'
import { evenSight, stereoSight } from '../markers/sight.ts'
import { worstUncertainty, type Markers } from '../markers/markers.ts'
import { defineOperation, type FileValue, type Item } from './operation.ts'
import { q } from './quantities.ts'

/** mm */
const SPACING = 1
/** share of the work that reading is */
const READ = 0.1
/** share of ordered lines from which on it is said that they are not joined to the one before */
const PARTED = 0.3
/** mm: of a marker where nothing is known of the optics */
const PLAIN_NOISE = 0.03

export const solveRecordingOperation = defineOperation({
  name: 'solve-recording',
  version: 12,
  title: 'Solve a recording',
  stage: 'Capture',
  shows: ['points', 'frames', 'ends-met'],
  picture: true,
  about:
    'Places every frame of a recording, by the markers of a map, by shape, or by both; frames that cannot be placed with certainty stay out. All that were placed become one pass.',
  params: z.object({
    name: z.string().max(200).optional().describe('Name of the pass; default: the file’s name.'),
    by: z
      .enum(['auto', 'markers', 'shape', 'print', 'both', 'own'])
      .default('auto')
      .describe(
        'What holds the frames. print: shape, and how bright the surface is where, for what is flat and printed. own: what the scanner says of where it was (an arm, a turntable). both: markers, or without a map that, and shape, each by what it knows. auto: markers where there is a map of them, else own or both where the scanner says it, else shape.',
      ),
    spacing: z
      .number()
      .min(0.1)
      .max(20)
      .optional()
      .describe('Spacing of the surface, mm; points are kept by it. Default: 1, or what frames that were brought in as files are dense enough for.'),
    error: z.number().min(0.02).max(2).default(0.3).describe('A frame that is known less well than this stays out, mm (1 sigma).'),
    near: z
      .number()
      .min(0)
      .max(1e4)
      .optional()
      .describe('Points nearer to the scanner than this, along its line of sight, count for nothing, mm. Default: all do.'),
    far: z.number().positive().max(1e4).optional().describe('Nor do those farther away, mm. Default: all do.'),
    floor: z
      .enum(['none', 'table', 'markers'])
      .default('none')
      .describe(
        'What lies beneath the floor is no part of the pass. table: the plane that was seen to hold most more than lies beneath it. markers: the plane through those that are named.',
      ),
    floorMarkers: z.array(z.string().min(1).max(40)).max(100).default([]).describe('Markers of the map that stick on the floor, three or more.'),
    raise: z.number().min(-20).max(50).default(0.5).describe('How far the floor is raised towards the part, mm.'),
    unit: z
      .enum(['auto', 'mm', 'cm', 'm', 'in', 'ft', 'um'])
      .default('auto')
      .describe('Unit of frames that were brought in as files and do not say it themselves. auto: mm where the size is plausible.'),
    most: z.number().int().min(1).max(200).default(12).describe('Measured points kept in a cube of the spacing.'),
    ordered: z
      .object({
        along: z.number().min(0.02).max(50).describe('Distance of two points along a line, mm.'),
        gap: z.number().min(0.02).max(200).describe('Largest gap between two lines, and within one, that is still one surface, mm.'),
      })
      .optional()
      .describe('Single lines as ordered data as well: evenly along each, joined to the line before. Default: only their points.'),
    without: z
      .array(z.tuple([z.number().min(0), z.number().min(0)]))
      .max(500)
      .default([])
      .describe('Spans that are left out: from and to, s since the first frame.'),
  }),
  inputs: {
    file: { kinds: ['file'], about: 'the recording, or its frames as files in a zip archive' },
    map: { kinds: ['markers'], optional: true, about: 'the map of the markers that were seen' },
  },
  outputs: {
    pass: { kind: 'points', about: 'the pass' },
    lines: { kind: 'mesh', many: true, about: 'its lines as ordered data, where that was asked for' },
  },
  async run(inputs, params, ctx) {
    const [{ source }] = inputs['file'] as FileValue[]
    const [map] = (inputs['map'] ?? []) as (Item<Markers> | undefined)[]
    const reach = { near: params.near ?? 0, far: params.far ?? Infinity }
    if (!(reach.near < reach.far))
      throw new OakError('bad-limits', `The near limit, ${reach.near} mm, is not nearer than the far one, ${reach.far} mm.`, {
        where: 'solve-recording, near and far',
        remedy: 'Take a smaller near limit, or a larger far one.',
      })
    const { frames: whole, warnings: read, ...head } = await readFrames(source, params.unit === 'auto' ? undefined : params.unit, subProgress(ctx, 0, READ))
    const frames = params.near === undefined && params.far === undefined ? whole : whole.map((f) => ({ ...f, points: () => inReach(f.points(), reach) }))
    const spacing = params.spacing ?? head.spacing ?? SPACING
    const own = frames.some((f) => f.at) ? head.own : undefined
    if (!map && (params.by === 'markers' || (params.by === 'both' && !own)))
      throw new OakError('missing-input', 'Frames are to be held by markers, and no map was given.', {
        where: 'solve-recording, map',
        remedy: 'Map the markers first, or let shape hold the frames.',
      })
    if (!own && params.by === 'own')
      throw new OakError('no-own-pose', 'Frames are to be held by what the scanner says of where it was, and it says nothing.', {
        where: source.name,
        remedy: 'Let shape or markers hold the frames.',
      })
    if (params.ordered && !head.lines)
      throw new OakError('not-lines', 'Ordered data are of single lines, and these frames are none.', {
        where: source.name,
        remedy: 'Leave ordered data out, or record with a single line.',
      })
    const by = params.by === 'auto' ? bestHold(map !== undefined, own !== undefined, head.lines) : params.by
    const inMap = map !== undefined && inAxesOfMap(by)
    const { floor, floorMarkers } = params
    if (floor === 'markers' && !inMap)
      throw new OakError('missing-input', 'Markers are to tell where the floor is, and no map of them holds the frames.', {
        where: 'solve-recording, floor',
        remedy: 'Let the table itself tell, or let the markers hold the frames.',
      })
    // known at once, and not after minutes
    if (floor === 'markers' && inMap) floorOfMarkers(map.data, floorMarkers)
    const solved = await solveRecording(
      frames,
      {
        by,
        spacing,
        noise: head.noise,
        error: params.error,
        most: params.most,
        without: params.without,
        ...(own ? { own } : {}),
        ...(floor === 'none'
          ? {}
          : { floor: { of: (surface) => floorOf({ floor, floorMarkers }, surface, inMap ? map.data : undefined), raise: params.raise } }),
        lines: head.lines,
        ...(map
          ? {
              markers: {
                map: { ...map.data, sigma: map.data.ids.map((_, i) => worstUncertainty(map.data.covariance, i)) },
                ...(head.optics ? { sight: stereoSight(head.optics) } : { sight: evenSight, noise: PLAIN_NOISE }),
              },
            }
          : {}),
      },
      subProgress(ctx, READ, 1),
    )
    if (solved.floor?.beneath && !solved.floor.clear)
      throw new OakError('nothing-above', 'Nothing of this recording lies above the floor.', {
        where: 'solve-recording, floor',
        remedy: 'If the table alone was recorded, record the part as well; else lower the floor, or leave it out.',
      })
    if (!solved.measured)
      throw frames === whole
        ? new OakError('nothing-seen', 'None of the frames that were placed shows a point.', {
            where: source.name,
            remedy: 'Look at the exposure and the distance.',
          })
        : new OakError('nothing-within', 'No point of this recording lies within the limits.', {
            where: `solve-recording, ${reach.near} to ${reach.far} mm`,
            remedy: 'Take a smaller near limit, or a larger far one.',
          })
    const name = params.name ?? source.name.replace(/\.[^.]*$/, '')
    const ordered = params.ordered && orderLines(aboveFloor(solved, params.raise), params.ordered)
    return {
      outputs: {
        pass: [
          {
            name,
            data: solved.points,
            pose: inMap ? map.pose : identity(),
          },
        ],
        lines: ordered ? [{ name: `${name}, lines`, data: ordered.mesh, pose: inMap ? map.pose : identity() }] : [],
      },
      evidence: {
        quantities: [
          ...quantitiesOf(solved, frames.length),
          q('surface-spacing', spacing),
          ...(ordered ? [q('lines-ordered', ordered.lines), q('lines-left-out', ordered.leftOut)] : []),
        ],
        warnings: [...read, ...warningsOf(solved, frames.length - solved.out, params.error, by === 'print'), ...apartOf(ordered, params.ordered?.gap)],
        timeline: solved.timeline,
        poses: [{ of: name, about: solved.held?.about ?? [0, 0, 0], covariance: solved.held?.covariance ?? null }],
      },
    }
  },
})

/** Lines that lie too far apart to be one surface. */
const apartOf = (ordered: OrderedLines | undefined, gap = 0): string[] =>
  ordered && ordered.parted > PARTED * ordered.lines
    ? [
        `${ordered.parted} of ${ordered.lines} lines lie further than ${gap} mm from the one before, and are not joined to it: lead the scanner slower, or take a larger gap.`,
      ]
    : []

/** The lines that have a place, without what lies beneath the floor. */
function* aboveFloor({ placed, floor }: SolvedRecording, raise: number): Generator<ScannedLine> {
  for (const { xyz, pose } of placed) {
    if (!floor) {
      yield { xyz, pose }
      continue
    }
    const above: number[] = []
    for (let i = 0; i < xyz.length; i += 3) {
      const [x, y, z] = transformPoint(pose, xyz[i], xyz[i + 1], xyz[i + 2])
      if (!isBeneath(floor, raise, x, y, z)) above.push(xyz[i], xyz[i + 1], xyz[i + 2])
    }
    yield { xyz: Float32Array.from(above), pose }
  }
}

function quantitiesOf(s: SolvedRecording, recorded: number) {
  const outside = [...s.outside.values()].reduce((a, b) => a + b, 0)
  return [
    q('points', s.points.xyz.length / 3),
    q('frames', recorded),
    q('frames-not-placed', outside),
    ...(s.out ? [q('frames-set-aside', s.out)] : []),
    q('points-measured', s.measured),
    ...(s.closed && Number.isFinite(s.closed.seam.before) ? [q('ends-apart', s.closed.seam.before), q('ends-met', s.closed.seam.after)] : []),
    ...(s.floor ? [q('beneath-the-floor', s.floor.beneath), q('floor-flat', s.floor.sigma)] : []),
    ...(Number.isFinite(s.sigma.median) ? [q('frame-sigma-median', s.sigma.median)] : []),
    ...(Number.isFinite(s.sigma.worst) ? [q('frame-sigma-worst', s.sigma.worst)] : []),
    ...(s.stretch ? [q(s.stretch.byPrint ? 'stretch-by-print' : 'stretch-sigma', s.stretch.sigma, { of: stretchWords(s.stretch) })] : []),
    ...outsideOf(s),
  ]
}

/** Frames that have no place, by why. */
export const outsideOf = (s: SolvedRecording) => [...s.outside].map(([why, n]) => q('frames-outside', n, { of: WHY[why] }))

/** Why frames have no place, as a person would say it. */
const WHY: Record<FrameReason, string> = {
  fits: 'waited for the place to prove itself',
  elsewhere: 'met nothing that is known',
  off: 'did not lie on the surface they met',
  hidden: 'lay where surface hides them',
  jump: 'jumped',
  free: 'could slide or turn',
  alike: 'could lie elsewhere as well',
  moved: 'came after something had moved, and before that was seen again as it was',
}

/** Which stretch, as a person would say it. */
const stretchWords = ({ over, axis }: Stretch): string => `${over.toFixed(0)} mm, along ${lineWords(axis)}`

function warningsOf(s: SolvedRecording, recorded: number, error: number, print: boolean): string[] {
  const out: string[] = []
  const outside = [...s.outside.values()].reduce((a, b) => a + b, 0)
  if (outside > 0.2 * recorded) out.push(`${outside} of ${recorded} frames could not be placed and are not in this pass.`)
  const moved = (s.outside.get('off') ?? 0) + (s.outside.get('hidden') ?? 0)
  if (moved > 10 && moved > 0.02 * recorded)
    out.push(
      `${moved} frames did not lie on what was recorded before: the part or its markers may have moved. What came before and after belongs to two setups.`,
    )
  const spans = new Set(s.placed.map((f) => f.span)).size
  if (spans > 1) out.push(`The place was lost and found again ${spans - 1} times.`)
  if (s.closed && s.closed.free > 0)
    out.push(
      print
        ? `${s.closed.free} motions are held by the print alone: along them ends that meet are not closed.`
        : `${s.closed.free} motions are held by nothing: frames may have slid along them.`,
    )
  if (s.closed && !Number.isFinite(s.closed.seam.before)) out.push('The path never met earlier surface: what drifted along it cannot be told.')
  const { stretch } = s
  if (stretch && stretch.sigma > error)
    out.push(
      `Over ${stretchWords(stretch)}, the ends of this pass are known to one another within ${(2 * stretch.sigma).toFixed(2)} mm only (k = 2): it may ${stretch.lengthwise ? 'be that much too short or too long' : 'have slid there'}. Come back over what was recorded before, or stick a few markers along it.`,
    )
  if (s.sigma.free > 0) out.push(`${s.sigma.free} frames are held by those before them, and not by all together: they stay where they were tracked.`)
  if (s.sigma.worst > error) out.push(`Some frames are held within ${s.sigma.worst.toFixed(2)} mm only.`)
  return out
}
