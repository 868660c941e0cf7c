import { bestHold } from './holder.ts'
import type { LiveOptions } from './liveframe.ts'
import { isGlossy, usualExposure } from './exposing.ts'
import { freedoms } from '../align/freedom.ts'
import { motionsIn, motionWords } from '../align/freemotion.ts'
import { COVERAGE } from '../uncertainty/contribution.ts'
import { scannerUncertainty, type DistanceError } from '../uncertainty/scanner.ts'
import { lineNoise } from '../scanner/linenoise.ts'
import { MATERIALS } from '../scanner/scene.ts'
import type { ScannerSpec } from '../scanner/spec.ts'
import { triangleAreas, triangleNormal, type Mesh } from '../shape/mesh.ts'
import { boundingBox } from '../shape/points.ts'

export interface OfferedScanner {
  name: string
  spec: Pick<ScannerSpec, 'kind' | 'design' | 'range' | 'own'>
  /** what its last verification found; null: none since it was calibrated */
  distance: DistanceError | null
}

export interface RecordingBrief {
  /** fine inside plus / minus this, mm */
  limit: number
  surface: keyof typeof MATERIALS
  /** markers are planned */
  planned: boolean
  /** number of the scanner that somebody chose: what hangs on it is of that one */
  chosen?: number | null
}

/** A setting, and why it is that. */
export interface Proposed<T> {
  value: T
  why: string
}

export interface RecordingProposal {
  /** number of the scanner; null: there is none */
  scanner: Proposed<number> | null
  by: Proposed<Exclude<NonNullable<LiveOptions['by']>, 'print'>>
  /** mm */
  spacing: Proposed<number>
  /** 1: matt white at the ideal distance is well exposed */
  exposure: Proposed<number>
  setups: Proposed<number>
}

/** Spacing of the surface up to a size of the part, mm: common practice, no source. */
const SPACINGS: [size: number, spacing: number][] = [
  [80, 0.5],
  [400, 1],
  [1000, 2],
  [Infinity, 3],
]
/** cubes so many times wider than the noise hold enough points to tell a plane */
const ABOVE_NOISE = 8
/** it looks down, and is not seen in the first setup; share of the surface from which on that matters */
const DOWN = -0.3
const MATTERS = 0.02

/**
 * What to rehearse first: each setting with its reason, from the part as it stands (z up, mm), the tolerance, and the scanners of the shelf. The rehearsal then
 * tells whether that holds. Which motions its visible surface leaves free: Gelfand and Guibas 2004 (freedoms). Throws RangeError for a part without surface.
 */
export function proposeRecording(part: Mesh, scanners: readonly OfferedScanner[], o: RecordingBrief): RecordingProposal {
  const areas = triangleAreas(part)
  const all = areas.reduce((a, b) => a + b, 0)
  if (!(all > 0)) throw new RangeError('a part without surface')
  const up = Array.from(areas, (_, i) => triangleNormal(part.vertices, part.triangles, i)[2] > DOWN)
  const down = areas.reduce((s, a, i) => s + (up[i] ? 0 : a), 0) / all
  const scanner = bestScanner(scanners, o)
  const of = scanners[o.chosen ?? scanner?.value ?? -1]
  return {
    scanner,
    by: holding(part, areas, up, of, o),
    spacing: spacingFor(part, of),
    exposure: exposureFor(o.surface),
    setups:
      down > MATTERS
        ? { value: 2, why: `${Math.round(100 * down)} % of its surface looks down as it stands: a second setup with the part turned over shows that.` }
        : { value: 1, why: 'Hardly any of its surface looks down as it stands.' },
  }
}

function bestScanner(scanners: readonly OfferedScanner[], { limit, surface }: RecordingBrief): Proposed<number> | null {
  const lines = MATERIALS[surface].gloss > 0.2 || MATERIALS[surface].albedo < 0.1 || MATERIALS[surface].seeThrough > 0.5
  const known = scanners.map((s, k) => ({
    k,
    s,
    u: s.distance ? COVERAGE * scannerUncertainty(s.distance) : Infinity,
    suits: !lines || s.spec.kind === 'laser-lines' || s.spec.kind === 'arm-line',
    wide: widthOf(s.spec),
  }))
  const words = (u: number) => `U of a place is ${u.toFixed(3)} mm by its verification`
  const decides = known.filter((c) => c.u <= limit)
  const suited = decides.filter((c) => c.suits)
  // of those that decide, the one that sees most at once
  const best = (suited.length ? suited : decides).sort((a, b) => b.wide - a.wide)[0]
  if (best) {
    const light = lines && best.suits ? ` Lines bear a ${surface} surface better than an area does.` : ''
    return { value: best.k, why: `${best.s.name} can decide ± ${limit} mm: ${words(best.u)}.${light}` }
  }
  const surest = known.sort((a, b) => a.u - b.u)[0]
  if (!surest) return null
  return {
    value: surest.k,
    why: Number.isFinite(surest.u)
      ? `None of the scanners can decide ± ${limit} mm; ${surest.s.name} comes nearest: ${words(surest.u)}.`
      : 'None of the scanners was verified since it was calibrated: what they can decide is not known.',
  }
}

/** mm that it sees at its ideal distance, the narrower way */
function widthOf({ design, range }: OfferedScanner['spec']): number {
  const { width, height, fx } = design.left
  return (Math.min(width, height) * range.ideal) / fx
}

function holding(part: Mesh, areas: ArrayLike<number>, up: boolean[], scanner: OfferedScanner | undefined, o: RecordingBrief): RecordingProposal['by'] {
  if (scanner?.spec.own) {
    const lines = scanner.spec.kind === 'arm-line'
    const value = bestHold(false, true, lines)
    return {
      value,
      why: lines
        ? `${scanner.name} says where it is; a single line says nothing of that.`
        : `${scanner.name} says where it is, and shape tells it more exactly.`,
    }
  }
  if (o.planned) return { value: 'markers', why: 'They are planned, and hold a frame whatever it sees of the part.' }
  if (scanner?.spec.kind === 'laser-lines')
    return { value: 'markers', why: `A frame of ${scanner.name} is a few lines: they hardly hold it by its shape. Plan markers first.` }
  const free = freeMotionsOf(part, areas, up)
  return free.length
    ? { value: 'markers', why: `By its shape it is free to ${free.join(', to ')}. Plan markers first; where it is printed, shape and print may do.` }
    : { value: 'shape', why: 'What is seen of it from above holds it every way: nothing need be stuck on it.' }
}

/** Motions that its visible surface leaves free, in words. */
function freeMotionsOf(part: Mesh, areas: ArrayLike<number>, up: boolean[]): string[] {
  const b = boundingBox(part.vertices)
  const middle = [0, 1, 2].map((k) => (b[k] + b[k + 3]) / 2)
  const radius = Math.hypot(b[3] - b[0], b[4] - b[1], b[5] - b[2]) / 4
  const jtj = new Float64Array(36)
  let weight = 0
  const { vertices: v, triangles: t } = part
  for (let i = 0; i < areas.length; i++) {
    if (!up[i] || !(areas[i] > 0)) continue
    const [nx, ny, nz] = triangleNormal(v, t, i)
    const [x, y, z] = [0, 1, 2].map((k) => ((v[3 * t[3 * i] + k] + v[3 * t[3 * i + 1] + k] + v[3 * t[3 * i + 2] + k]) / 3 - middle[k]) / radius)
    const row = [y * nz - z * ny, z * nx - x * nz, x * ny - y * nx, nx, ny, nz]
    for (let r = 0; r < 6; r++) for (let c = 0; c < 6; c++) jtj[6 * r + c] += areas[i] * row[r] * row[c]
    weight += areas[i]
  }
  const free = freedoms(jtj, weight, radius, FREE_HOLD).filter((f) => f.free)
  return motionsIn(
    free.map((f) => [...f.rotation.map((w) => w * radius), ...f.translation]),
    [0, 0, 0],
    radius,
  ).map(motionWords)
}
/** noise of normals that is asked to be beaten twenty times: 1.5 % of the surface has to hold a motion at least */
const FREE_HOLD = 7.5e-4

function spacingFor(part: Mesh, scanner: OfferedScanner | undefined): Proposed<number> {
  const b = boundingBox(part.vertices)
  const size = Math.max(b[3] - b[0], b[4] - b[1], b[5] - b[2])
  const [, usual] = SPACINGS.find(([most]) => size <= most) ?? SPACINGS[0]
  const noise = scanner ? lineNoise(scanner.spec.design, scanner.spec.range.ideal) : 0
  const least = Math.ceil(ABOVE_NOISE * noise * 10) / 10
  if (scanner && least > usual)
    return { value: least, why: `${scanner.name}'s points scatter by ${noise.toFixed(3)} mm: a finer surface would show that and nothing else.` }
  return { value: usual, why: `Of a part of ${Math.round(size)} mm; a dozen measured points are kept in each cube of it, so its edges stay sharper than that.` }
}

function exposureFor(surface: keyof typeof MATERIALS): Proposed<number> {
  const value = usualExposure(surface)
  return {
    value,
    why: isGlossy(surface)
      ? 'A glossy surface mirrors the light into the cameras: shorter than its colour would ask for.'
      : value > 2
        ? 'A dark surface sends little light back.'
        : 'A matte surface is well lit so at a slant of 30 degrees.',
  }
}
