import type { Contribution } from '../uncertainty/contribution.ts'

/**
 * Everything that a result may state: its id, by which programs ask for it, its unit, and the words people read. `{at}` in the
 * words stands for the figure the quantity was asked at. An id never changes: ledgers hold it. Words may.
 */
export const QUANTITIES = {
  '3-mm': ['3 mm', ''],
  '6-mm': ['6 mm', ''],
  'alignment-worst-pass': ['alignment, worst pass', 'mm'],
  area: ['area', 'mm²'],
  'area-95': ['95 % of the area within', 'mm'],
  'area-filled': ['area filled', 'mm²'],
  'beside-its-place': ['beside its place', 'mm'],
  'beside-the-plan-rms': ['beside the plan, rms', 'mm'],
  'beneath-the-floor': ['points beneath the floor, left out', ''],
  'best-fit-mean': ['best fit, mean', 'mm'],
  'best-fit-rms': ['best fit, rms', 'mm'],
  borders: ['borders', ''],
  'cell-size': ['cell size', 'mm'],
  chord: ['triangles lie off the true surface by up to', 'mm'],
  'compared-at': ['compared at', 'mm'],
  covered: ['of the surface covered', '%'],
  'crisp-edges': ['crisp edges', 'mm'],
  'crumbs-dropped': ['crumbs dropped', ''],
  deviation: ['deviation', 'mm'],
  'deviation-mean': ['mean deviation', 'mm'],
  'deviation-rms': ['rms', 'mm'],
  'directions-comfortable': ['directions comfortable', '%'],
  'directions-with-enough': ['directions with enough', '%'],
  'edges-of-more-than-two': ['edges of more than two', ''],
  'extra-beyond': ['extra beyond', '%'],
  'ends-apart': ['ends of the path apart, as tracked', 'mm'],
  'ends-met': ['ends meet within', 'mm'],
  faces: ['faces', ''],
  'faces-decidable': ['faces on which ± {at} mm can be decided', '%'],
  'flatness-of-the-patch-rms': ['flatness of the patch, rms', 'mm'],
  'foretold-u': ['U (k = 2) on the least certain face', 'mm'],
  'floor-flat': ['the floor is flat within (1 sigma)', 'mm'],
  format: ['format', ''],
  'frame-sigma-median': ['a frame is held within (1 sigma, median)', 'mm'],
  'stretch-sigma': ['one end of it is known to the other within (1 sigma)', 'mm'],
  'stretch-by-print': ['one end of it is known to the other, by its print, within (1 sigma)', 'mm'],
  'surface-spacing': ['spacing of the surface', 'mm'],
  'lines-ordered': ['lines as ordered data', ''],
  'lines-left-out': ['lines too near to the one before', ''],
  'frame-sigma-worst': ['the worst frame', 'mm'],
  frames: ['frames', ''],
  'frames-not-placed': ['frames not placed', ''],
  'frames-set-aside': ['frames left out by hand', ''],
  'frames-outside': ['frames without a place', ''],
  'free-directions': ['free directions', ''],
  'gap-between-passes-largest': ['gap between passes, largest', 'mm'],
  'gap-between-passes-rms': ['gap between passes, rms', 'mm'],
  'gap-largest': ['gap, largest', 'mm'],
  'gap-rms': ['gap, rms', 'mm'],
  'gaps-closed': ['gaps closed', ''],
  'gaps-left': ['gaps left', ''],
  'groups-that-look-alike': ['groups that look alike', ''],
  'islands-gone': ['islands gone', ''],
  'kept-from-before': ['kept from before', ''],
  'largest-extra': ['largest extra', 'mm'],
  'largest-left-across': ['largest left, across', 'mm'],
  'largest-missing': ['largest missing', 'mm'],
  'marker-u': ['U', 'mm'],
  'marker-u-largest': ['marker position, largest U (k = 2)', 'mm'],
  'marker-u-rms': ['marker position, U (k = 2), rms', 'mm'],
  markers: ['markers known', ''],
  'markers-added': ['added', ''],
  'markers-in-common': ['markers in common', ''],
  'markers-largest': ['markers, largest', 'mm'],
  'markers-missing': ['missing', ''],
  'markers-moved': ['moved', ''],
  'markers-planned': ['markers planned', ''],
  'markers-rms': ['markers, rms', 'mm'],
  'missing-beyond': ['missing beyond', '%'],
  megabytes: ['kept', 'MB'],
  moved: ['moved', 'mm'],
  'moved-by': ['moved by', 'mm'],
  'nearest-neighbours': ['nearest neighbours', 'mm'],
  noise: ['noise', 'mm'],
  'not-measured': ['not measured', '%'],
  'on-blocks-of-30': ['on blocks of 30°', ''],
  'on-blocks-of-45': ['on blocks of 45°', ''],
  'on-the-part': ['on the part', ''],
  'on-the-table': ['on the table', ''],
  'on-towers': ['on towers', ''],
  'only-in-the-one-that-moves': ['only in the one that moves', ''],
  'only-in-the-one-that-stays': ['only in the one that stays', ''],
  'open-edges': ['open edges', ''],
  overlap: ['overlap', '%'],
  'overlap-agreed': ['of it in agreement', '%'],
  'pair-largest': ['pair, largest', 'mm'],
  'pair-mean': ['pair, mean', 'mm'],
  'pair-rms': ['pair, rms', 'mm'],
  pairs: ['pairs', ''],
  'pairs-largest': ['pairs, largest', 'mm'],
  'pairs-rms': ['pairs, rms', 'mm'],
  pieces: ['pieces', ''],
  'pinholes-closed': ['pinholes closed', ''],
  'places-averaged': ['places averaged', ''],
  'places-independent': ['as many independent', ''],
  'places-used': ['places used', '%'],
  'patch-radius': ['radius of the patch', 'mm'],
  'planned-not-found': ['planned, not found', ''],
  'point-spacing': ['point spacing', 'mm'],
  points: ['points', ''],
  'points-gone': ['points gone', ''],
  'points-in-the-patch': ['points in the patch', ''],
  'points-left': ['points left', ''],
  'points-measured': ['points measured', ''],
  'points-used': ['points used', ''],
  pose: ['pose', 'mm'],
  'reduced-largest': ['reduced, largest deviation', 'mm'],
  'reduced-rms': ['deviation, rms', 'mm'],
  residual: ['residual', 'mm'],
  'residual-rms': ['residual, rms', 'mm'],
  'rival-score': ['next best pose, score', '%'],
  'scale-relative-uncertainty': ['scale, relative uncertainty', 'ppm'],
  seconds: ['recording', 's'],
  'set-aside': ['set aside', ''],
  'share-gone': ['share gone', '%'],
  'share-kept': ['share kept', '%'],
  sightings: ['sightings', ''],
  'sightings-set-aside': ['sightings set aside', ''],
  'size-x': ['size x', 'mm'],
  'size-y': ['size y', 'mm'],
  'size-z': ['size z', 'mm'],
  'spread-in-the-patch': ['spread in the patch', 'mm'],
  'surface-noise': ['surface noise', 'mm'],
  'too-bright': ['too bright', '%'],
  'too-dark': ['too dark', '%'],
  triangles: ['triangles', ''],
  'unit-of-the-file': ['unit of the file', ''],
  verdict: ['verdict', ''],
  vertices: ['vertices', ''],
  volume: ['volume', 'mm³'],
  'weakest-direction-sees': ['weakest direction sees', ''],
  'where-planned': ['where planned', ''],
  'widest-angle': ['widest angle', '°'],
  within: ['within {at} mm', '%'],
  x: ['x', 'mm'],
  y: ['y', 'mm'],
  z: ['z', 'mm'],
} as const satisfies Record<string, readonly [words: string, unit: string]>
export type QuantityId = keyof typeof QUANTITIES

/** One thing that is known of a result. */
export interface Quantity {
  id: QuantityId
  value: number | string
  unit: string
  /** standard uncertainty in the same unit, where it was asked for */
  u?: number | 'unknown'
  /** what that is made of */
  parts?: Contribution[]
  /** of which item, where a quantity belongs to one */
  of?: string
  /** the figure it was asked at */
  at?: number
}

/** A quantity in its own unit; what is not a number, and not unknown, has none. */
export function q(id: QuantityId, value: number | string, more: Pick<Quantity, 'u' | 'parts' | 'of' | 'at'> = {}): Quantity {
  // what comes from too few data may be no number: it is not known, and would not outlive JSON
  const known = typeof value === 'number' && !Number.isFinite(value) ? 'unknown' : value
  return { id, value: known, unit: typeof known === 'number' || known === 'unknown' ? QUANTITIES[id][1] : '', ...more }
}

/** What people read. Of an id of a later version, the id itself. */
export function wordsOf(x: { id: string; at?: number }): string {
  const entry = (QUANTITIES as Partial<Record<string, readonly [string, string]>>)[x.id]
  return entry ? entry[0].replace('{at}', String(x.at ?? '')) : x.id
}

/** The same with the words for people, wherever it leaves the program. */
export const named = ({ id, ...rest }: Quantity): Quantity & { name: string } => ({ id, name: wordsOf({ id, ...rest }), ...rest })
