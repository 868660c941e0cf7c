import { z } from 'zod'
import type { CadSurface } from '../base/cad.ts'
import { identity, type Mat4 } from '../base/mat4.ts'
import { subProgress, type RunContext } from '../base/run.ts'
import { coverageOf, SIDES, type Coverage, type FaceCoverage } from '../inspect/coverage.ts'
import { transformMesh, type Mesh } from '../shape/mesh.ts'
import type { Points } from '../shape/points.ts'
import { COVERAGE } from '../uncertainty/contribution.ts'
import { scannerUncertainty, type DistanceError } from '../uncertainty/scanner.ts'
import { bestFitOperation } from './best-fit.ts'
import { deviation } from './deviation.ts'
import { flag } from './flag.ts'
import { merge } from './merge.ts'
import type { Evidence, FaceForetold, Item } from './operation.ts'
import { q, type Quantity } from './quantities.ts'

/** faces of which it is said how well they are known */
export const MOST_FACES = 30
/** a face that is covered by less counts as not measured */
export const LEAST_COVERED = 0.5
/** mm: a covered place has measured surface within so many spacings, and at least so near */
const REACH = 2
const NEAR = 1

export interface InspectedPass {
  coverage: Coverage
  faces: FaceForetold[]
  rms: number
}

export interface InspectOptions {
  /** fine inside plus / minus this, mm */
  limit: number
  /** of the surface, mm: covered is what has measured surface within two of them */
  spacing: number
  /** of the scanner's verification, mm */
  distance: DistanceError | null
  /** how well its frames were held, standard, mm; null: it is no recording. Default null */
  held?: number | 'unknown' | null
  /** where it lies is found by its shape first. Default false */
  byShape?: boolean
}

/**
 * What becomes of one pass by the steps that every part goes through: merged, laid on its nominal, compared, and a flag on each large face, with the uncertainty that
 * flags state. points: at `pose` roughly where the nominal is; part: the nominal. Throws what those steps throw.
 */
export async function inspectPass(points: Points, pose: Mat4, part: Mesh, p: InspectOptions, ctx: RunContext): Promise<InspectedPass> {
  const run = <O extends { params: z.ZodType; run: (...a: never[]) => unknown }>(o: O, inputs: unknown, params: object, c = ctx) =>
    (o.run as (i: unknown, p: unknown, c: RunContext) => Promise<{ outputs: Record<string, Item[]>; evidence: Evidence }>)(inputs, o.params.parse(params), c)
  const nominal: Item<Mesh> = { name: 'nominal', data: part, pose: identity() }
  const pass: Item<Points> = { name: 'pass', data: points, pose }
  const merged = (await run(merge, { passes: [pass] }, {}, subProgress(ctx, 0, 0.6))).outputs['mesh'][0] as Item<Mesh>
  const fit = await run(bestFitOperation, { measured: [merged], nominal: [nominal] }, { byShape: p.byShape ?? false }, subProgress(ctx, 0.6, 0.8))
  const measured = fit.outputs['measured'][0] as Item<Mesh>
  const compared = await run(deviation, { measured: [measured], nominal: [nominal] }, { limit: p.limit }, subProgress(ctx, 0.8, 0.95))
  const coverage = coverageOf(part, transformMesh(measured.data, measured.pose), Math.max(NEAR, REACH * p.spacing))
  const lineage = {
    scanner: p.distance ? scannerUncertainty(p.distance) : ('unknown' as const),
    frames: p.held ?? null,
    alignment: [],
    placing: fit.evidence.poses?.[0] ?? ('unknown' as const),
  }
  const faces: FaceForetold[] = []
  for (const f of coverage.faces.slice(0, MOST_FACES)) {
    const known: FaceForetold = { of: faceWords(f, part), face: f.face, area: f.area, covered: f.covered, u: 'unknown' }
    if (f.at && f.covered >= LEAST_COVERED) {
      const told = await run(flag, { field: compared.outputs['field'], on: [measured], nominal: [nominal] }, { at: f.at, limit: p.limit, lineage })
      const d = told.evidence.quantities[0]
      known.u = d.u ?? 'unknown'
      if (d.parts) known.parts = d.parts
    }
    faces.push(known)
  }
  return { coverage, faces, rms: Number(compared.evidence.quantities.find((x) => x.id === 'deviation-rms')?.value) }
}

/** What of it is said in figures: how much is covered, how well the least certain of the faces that are is known, and on how many a tolerance can be decided. */
export function inspectedQuantities(f: InspectedPass | undefined, limit: number): Quantity[] {
  const measured = f?.faces.filter((x) => x.covered >= LEAST_COVERED) ?? []
  const us = measured.flatMap((x) => (typeof x.u === 'number' ? [COVERAGE * x.u] : []))
  return [
    q('covered', 100 * (f?.coverage.covered ?? 0)),
    q('foretold-u', us.length ? Math.max(...us) : 'unknown'),
    q('faces-decidable', measured.length ? (100 * us.filter((u) => u <= limit).length) / measured.length : 0, { at: limit }),
  ]
}

/** A face as a person would point at it. */
function faceWords({ face, area }: FaceCoverage, part: Mesh): string {
  if (!part.faces) return `side ${SIDES[face]}`
  const s = part.surfaces?.[face]
  const size = `${Math.round(area)} mm²`
  return `${s ? surfaceWords(s) : 'face'} (${face + 1}), ${size}`
}
const surfaceWords = (s: CadSurface): string =>
  s.kind === 'cylinder' ? `${s.hollow ? 'bore' : 'cylinder'} ⌀ ${Number((2 * s.radius).toFixed(2))}` : s.kind === 'free' ? 'free face' : s.kind
