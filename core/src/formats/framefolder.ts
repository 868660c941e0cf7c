import { z } from 'zod'
import { inFile, OakError } from '../base/errors.ts'
import { identity, isRigid, orthonormalise, type Mat4 } from '../base/mat4.ts'
import { checkCancelled, quietContext, type RunContext } from '../base/run.ts'
import { median } from '../base/stats.ts'
import { cameraSchema, ownPose } from '../scanner/spec.ts'
import { boundingBox, boxDiagonal } from '../shape/points.ts'
import { pointSpacing } from '../shape/spacing.ts'
import { readAny } from './index.ts'
import { MM_PER, type Unit } from './imported.ts'
import { openArchive } from './archive.ts'
import { isE57, readE57Scans, type E57Scan } from './e57.ts'
import { pointNoise } from './pointnoise.ts'
import { rangeReader } from './rangeimage.ts'
import { keepFrame, type Frames, type RecordedFrame } from './recording.ts'
import { bytesSource, type ByteSource } from './source.ts'

const FORMAT = 'oak-gauge frame folder'
const LIST = 'frames.json'
/** ms between two frames of which nothing is said (common practice, no source: ten a second) */
const EVERY = 100
/** how well poses are known of which nothing is said: mm, degrees (own choice) */
const OWN = { mm: 0.5, degrees: 0.1 }
const MOST_FRAMES = 20_000
/** frames that noise is estimated from */
const NOISE_FROM = 5
/** mm of the unit of E57 */
const METRE = MM_PER.m
/** a frame this small (in mm) is more likely in inches or metres, one this large in micrometres */
const PLAUSIBLE = [10, 20_000] as const

const pose = z
  .array(z.number())
  .refine((p) => p.length === 12 || p.length === 16, 'twelve numbers are wanted (three rows), or sixteen')
  .refine((p) => isRigid(p), 'this is no turn and shift: rows of its turn must be of length 1 and upright on each other')
/** a lens that draws straight */
const still = z.number().default(0)
const list = z.object({
  format: z.literal(FORMAT).optional(),
  version: z.literal(1).optional(),
  unit: z.enum(['mm', 'cm', 'm', 'in', 'ft', 'um']).optional(),
  noise: z.number().positive().optional(),
  lines: z.boolean().default(false),
  own: ownPose.optional(),
  camera: cameraSchema.extend({ k1: still, k2: still, p1: still, p2: still, k3: still }).optional(),
  step: z.number().positive().optional(),
  frames: z
    .array(
      z.object({
        file: z.string().min(1).max(400),
        time: z.number().optional(),
        pose: pose.optional(),
        markers: z
          .array(z.number())
          .refine((m) => m.length % 4 === 0, 'x, y, z and diameter of each marker are wanted')
          .default([]),
      }),
    )
    .min(1)
    .max(MOST_FRAMES)
    .optional(),
})
type List = z.output<typeof list>
type Listed = NonNullable<List['frames']>[number]

const bad = (message: string, where: string, remedy = 'See docs/formats.md, Frames as files.') => new OakError('bad-frames', message, { where, remedy })

/**
 * Frames as files, in a zip archive: each a file of points or a mesh (PLY, STL, OBJ, XYZ …) or a range image (PNG of one channel, 16 bits), in the coordinates of the
 * scanner. `frames.json` may say their order, times (ms), poses (scanner to what stands still), markers, unit, noise (mm), and the camera of range images; without it
 * they come in the order of their names. Written out for people in docs/formats.md. unit: holds where the list says none.
 * Throws OakError 'bad-frames', 'unit-unknown', what openArchive and readAny throw, each with the file it is about.
 */
export async function readFrameFolder(source: ByteSource, unit: Unit | undefined, ctx: RunContext = quietContext): Promise<Frames> {
  const archive = openArchive(await whole(source), source.name)
  const at = archive.names.find((name) => name.split('/').pop() === LIST)
  const said = at === undefined ? list.parse({}) : listOf(archive.read(at), `${source.name}, ${at}`)
  const folder = at?.slice(0, -LIST.length) ?? ''
  const files = said.frames?.map((f) => ({ ...f, file: folder + f.file })) ?? inOrder(archive.names.filter((name) => name !== at))
  if (!files.length) throw bad('No frames were found in this archive.', source.name)
  const names = new Set(archive.names)
  const gone = files.find((f) => !names.has(f.file))
  if (gone) throw bad(`${LIST} names a file that is not there: ${gone.file}.`, source.name)
  const known = said.unit ?? unit
  const k = MM_PER[known ?? 'mm']
  const clouds = cloudReader(said, known, ctx)
  const g: Gathered = { frames: [], raw: [], told: [], bare: [], amid: 0 }
  const unpacked = archive.each(files.map((f) => f.file))
  let last = -Infinity
  for (const [n, f] of files.entries()) {
    checkCancelled(ctx)
    ctx.progress(n / files.length, 'reading')
    const where = `${source.name}, ${f.file}`
    const some = await clouds(f.file, unpacked.next().value as Uint8Array, where)
    if (f.pose && some.length > 1) throw bad(`${LIST} gives one pose to a file of ${some.length} scans.`, where)
    for (const [i, cloud] of some.entries()) {
      const time: number = i === 0 && f.time !== undefined ? f.time : g.frames.length ? last + EVERY : 0
      if (!(time > last)) throw bad(`Frame ${n + 1} is not later than the one before.`, where)
      last = time
      const place = f.pose ? placeOf(f.pose, k) : cloud.pose
      // coordinates in which it did not stand at the origin
      if (!place && cloud.origin) for (let j = 0; j < cloud.xyz.length; j++) cloud.xyz[j] -= cloud.origin[j % 3]
      gather(g, cloud, n % Math.max(1, Math.floor(files.length / NOISE_FROM)) === 0)
      g.frames.push(
        keepFrame(time, cloud.colours ? { xyz: cloud.xyz, colours: cloud.colours } : { xyz: cloud.xyz }, i ? [] : f.markers.map((v) => v * k), place),
      )
    }
  }
  mustBeSized(g, source.name)
  return together(g, said, k)
}

interface Gathered {
  frames: RecordedFrame[]
  /** some of them, to look at */
  raw: Float32Array[]
  /** lengths of frames whose unit is known, and of those that are numbers alone */
  told: number[]
  bare: number[]
  /** those that lie all round their origin */
  amid: number
}

function gather(g: Gathered, { xyz, told }: Cloud, looked: boolean): void {
  if (!xyz.length) return
  const box = boundingBox(xyz)
  g[told ? 'told' : 'bare'].push(boxDiagonal(box))
  if ([0, 1, 2].every((a) => box[a] < 0 && box[a + 3] > 0)) g.amid++
  if (looked && g.raw.length < NOISE_FROM) g.raw.push(xyz)
}

function mustBeSized(g: Gathered, where: string): void {
  if (!g.told.length && !g.bare.length) throw bad('None of these frames shows a point.', where, 'Look at what wrote them.')
  const size = median(g.bare)
  if (size < PLAUSIBLE[0] || size > PLAUSIBLE[1])
    throw new OakError('unit-unknown', `A frame of ${where} is ${size.toPrecision(3)} units long, and nothing says which unit.`, {
      where,
      remedy: 'Say the unit: mm, cm, m, in, ft or um.',
    })
}

/** k: mm of the unit of the list */
function together({ frames, raw, amid }: Gathered, { noise: told, own: saidOwn, lines }: List, k: number): Frames {
  const warnings: string[] = []
  const posed = frames.some((f) => f.at)
  const noise = told === undefined ? pointNoise(raw) : told * k
  if (amid > frames.length / 2)
    warnings.push('Most frames lie all round the place where the scanner should have been: points of a frame must be in the coordinates of the scanner.')
  if (posed && !saidOwn) warnings.push(`How well the poses are known is not said: ${OWN.mm} mm and ${OWN.degrees} degrees were taken.`)
  if (told === undefined) warnings.push(`How much points scatter is not said: ${noise.toPrecision(2)} mm was found beside planes through their neighbours.`)
  return { noise, lines, ...(posed ? { own: saidOwn ?? OWN } : {}), ...(lines ? {} : { spacing: spacingOf(raw) }), frames, warnings }
}

/**
 * Cubes that a frame fills. Sixteen frames round the tray at 2 and 6 degrees a frame, points 0.75, 1.5, 2.3, 3.9 and 6.3 mm apart, in cubes of 0.35, 0.5, 0.75, 1, 1.5 and 2
 * times that: at 0.75 all 160 are placed; at 0.5 158, at 1 150, at 2 125; of the last some with 0.4 mm.
 */
const DENSE = 0.75
const spacingOf = (raw: Float32Array[]) => {
  const apart = raw.map((xyz) => pointSpacing(xyz)).filter((v) => v > 0)
  return apart.length ? Math.min(20, Math.max(0.1, Number((DENSE * median(apart)).toPrecision(2)))) : undefined
}

async function whole(source: ByteSource): Promise<Uint8Array> {
  const bytes = new Uint8Array(source.size)
  let n = 0
  for await (const c of source.chunks()) {
    bytes.set(c, n)
    n += c.length
  }
  return bytes
}

function listOf(bytes: Uint8Array, where: string): List {
  let raw: unknown
  try {
    raw = JSON.parse(new TextDecoder().decode(bytes))
  } catch (e) {
    throw bad(`This is not proper JSON: ${e instanceof Error ? e.message : ''}.`, where)
  }
  const read = list.safeParse(raw)
  if (read.success) return read.data
  const [issue] = read.error.issues
  throw bad(`${issue.path.join('.') || 'The list'}: ${issue.message}.`, where)
}

/** By their names, 2 before 10. */
const inOrder = (names: string[]): Listed[] =>
  names.map((file) => ({ file, markers: [] })).sort((a, b) => a.file.localeCompare(b.file, 'en', { numeric: true, sensitivity: 'base' }))

interface Cloud {
  /** mm */
  xyz: Float32Array
  colours?: Uint8Array | undefined
  /** where the scanner stood, mm */
  origin?: number[] | undefined
  pose?: Mat4
  /** its unit is known */
  told: boolean
}

/** Points of a file, frame by frame. unit: holds where a file says none of its own. */
function cloudReader(said: List, unit: Unit | undefined, ctx: RunContext) {
  const range = said.camera && said.step !== undefined ? rangeReader(said.camera, said.step * MM_PER[unit ?? 'mm']) : undefined
  return async (file: string, bytes: Uint8Array, where: string): Promise<Cloud[]> => {
    if (/\.png$/i.test(file)) {
      if (!range) throw bad(`A range image needs to be told its camera, and how far a step of grey is: \`camera\` and \`step\` of ${LIST}.`, where)
      return [{ xyz: range(bytes, where), told: unit !== undefined }]
    }
    const source = bytesSource(file.split('/').pop() ?? file, bytes)
    try {
      if (isE57(bytes)) return (await readE57Scans(source, ctx)).map(ofScan)
      const { data, origin, unit: own } = await readAny(source, ctx)
      const k = MM_PER[own ?? unit ?? 'mm']
      const [raw, stood] = data.kind === 'points' ? [data.xyz, data.viewpoint] : [data.vertices, undefined]
      const inMm = (v: number, a: number) => (v + origin[a % 3]) * k
      return [{ xyz: Float32Array.from(raw, inMm), colours: data.colours, origin: stood?.map(inMm), told: (own ?? unit) !== undefined }]
    } catch (e) {
      throw inFile(where, e)
    }
  }
}

const ofScan = ({ xyz, colours, pose, posed }: E57Scan): Cloud => ({
  xyz: Float32Array.from(xyz, (v) => METRE * v),
  colours,
  ...(posed ? { pose: placeOf(pose, METRE) } : {}),
  told: true,
})

function placeOf(p: ArrayLike<number>, k: number): Mat4 {
  const m = identity()
  for (let i = 0; i < 12; i++) m[i] = p[i] * (i % 4 === 3 ? k : 1)
  orthonormalise(m)
  return m
}
