import { OakError } from '../base/errors.ts'
import { seeded } from '../base/random.ts'
import { dot, type Vec3 } from '../base/vec3.ts'
import { fitPlane, type Plane } from '../clean/plane.ts'
import type { Markers } from '../markers/markers.ts'
import { PATCH } from './patch.ts'
import type { GrowingSurface } from './surface.ts'

/** What a part stands on, the normal towards the part. */
export interface Floor extends Plane {
  /** places it was found by, and how far they lie off it, mm (1 sigma) */
  used: number
  sigma: number
}

/** places of the surface that are looked at, at the most, and planes that are tried */
const ASKED = 4000
const TRIED = 160
/** cosine between a place's normal and the plane it lies on */
const ALIKE = 0.97
/** A patch tells how a plane lies within a degree or so: it is fitted to what lies within so many cubes of it, then closer, then again. */
const CLOSER = [3, 1, 0.5, 0.5]
/** Of all places: what a plane must hold to be a table */
const LARGE = 0.05
const FEWEST = 60
/** Beneath a table its own edge may be seen, or the room: so much of it */
const BENEATH = 1 / 3

/**
 * The table: of the planes in a surface, each seen from its own side, the one that holds most more than lies beneath it. By trial (Fischler and Bolles 1981), each from
 * one place and its normal, fitted to all that lie on it (Pearson 1901). Lengths in mm, in the axes of the surface. A wall behind the part is as good as a table; and
 * where nothing of a table was seen, a base plate is one with things on it: whoever uses it shows what goes. Throws OakError 'no-floor'. Tried: nothing but strays
 * beneath it (0.3 % of all): a table whose edge came into view was none any more.
 */
export function floorOfTable(surface: GrowingSurface): Floor {
  const { side } = surface
  const count = surface.cubes()
  const every = Math.max(1, Math.ceil(count / ASKED))
  const at = new Float32Array(6)
  const patch = new Float64Array(PATCH)
  const places: number[] = []
  const normals: number[] = []
  for (let k = 0; k < count; k += every) {
    if (!surface.pointsIn(k)) continue
    surface.middleOf(k, at, 0)
    if (!surface.patchAt(at[0], at[1], at[2], at[3], at[4], at[5], patch)) continue
    // not the middle of its points: where a plane lies between two cubes, each holds half of what scatters about it
    places.push(patch[0], patch[1], patch[2])
    normals.push(patch[3], patch[4], patch[5])
  }
  const n = places.length / 3
  const place = (i: number): Vec3 => [places[3 * i], places[3 * i + 1], places[3 * i + 2]]
  const normal = (i: number): Vec3 => [normals[3 * i], normals[3 * i + 1], normals[3 * i + 2]]
  const on = (p: Plane, within: number): number[] => {
    const out: number[] = []
    for (let i = 0; i < n; i++) if (Math.abs(dot(p.normal, place(i)) - p.offset) < within && dot(p.normal, normal(i)) > ALIKE) out.push(i)
    return out
  }
  const random = seeded(1)
  const known: Plane[] = []
  let best: (Floor & { worth: number }) | undefined
  const least = () => Math.max(FEWEST, LARGE * n, best?.worth ?? 0)
  for (let tried = 0; tried < TRIED && n >= FEWEST; tried++) {
    const i = Math.floor(random.next() * n)
    // of a plane that was looked at already
    if (known.some((p) => Math.abs(dot(p.normal, place(i)) - p.offset) < side && dot(p.normal, normal(i)) > ALIKE)) continue
    let found: Floor = { normal: normal(i), offset: dot(normal(i), place(i)), used: 0, sigma: NaN }
    for (const c of CLOSER) {
      const near = on(found, c * side)
      found.used = near.length
      if (near.length <= least()) break
      const fit = fitPlane(near.flatMap(place), 2)
      const turn = dot(fit.normal, found.normal) < 0 ? -1 : 1
      found = { normal: fit.normal.map((v) => turn * v) as Vec3, offset: turn * fit.offset, used: near.length, sigma: fit.sigma }
    }
    known.push(found)
    if (found.used <= least()) continue
    let beneath = 0
    for (let j = 0; j < n; j++) if (dot(found.normal, place(j)) < found.offset - side) beneath++
    const worth = found.used - beneath
    if (beneath <= BENEATH * found.used && worth > least()) best = { ...found, worth }
  }
  if (!best)
    throw new OakError('no-floor', 'No plane lies beneath all that was recorded.', {
      remedy: 'Record some of the table round the part, or give three markers that stick on it.',
    })
  const { normal: up, offset, used, sigma } = best
  return { normal: up, offset, used, sigma }
}

/**
 * The plane through markers that stick on the table, seen from where they face. Throws OakError 'unknown-markers', 'few-markers' below three, 'on-a-line', and
 * 'not-flat' where one lies farther off the plane than `off` mm.
 */
export function floorOfMarkers(m: Pick<Markers, 'ids' | 'positions' | 'normals'>, ids: readonly string[], off = 1): Floor {
  const index = [...new Set(ids)].map((id) => m.ids.indexOf(id))
  const unknown = ids.filter((id) => !m.ids.includes(id))
  if (unknown.length)
    throw new OakError('unknown-markers', `The map knows no marker ${unknown.join(', ')}.`, { remedy: 'Give the names that stand beside the markers.' })
  if (index.length < 3)
    throw new OakError('few-markers', `A floor needs three markers, and ${index.length} ${index.length === 1 ? 'is' : 'are'} given.`, {
      remedy: 'Give three that stick on the table, far from one another.',
    })
  const of = (a: Float32Array) => index.map((i): Vec3 => [a[3 * i], a[3 * i + 1], a[3 * i + 2]])
  const places = of(m.positions)
  const middle = [0, 1, 2].map((k) => places.reduce((s, p) => s + p[k], 0) / places.length)
  // no point is left out: each was named
  const fit = fitPlane(places.flat(), 1)
  // how wide they lie, across their longest direction
  const [a, ...rest] = places.map((p) => p.map((v, k) => v - middle[k]) as Vec3).sort((p, q) => dot(q, q) - dot(p, p))
  const long = dot(a, a)
  const wide = Math.max(...rest.map((p) => dot(p, p) - dot(p, a) ** 2 / (long || 1)))
  if (!(wide > 0.02 ** 2 * long && long > 0))
    throw new OakError('on-a-line', `The markers ${ids.join(', ')} lie on one line.`, { remedy: 'Take one further to the side.' })
  const worst = places.map((p) => Math.abs(dot(fit.normal, p) - fit.offset))
  const far = worst.indexOf(Math.max(...worst))
  if (worst[far] > off)
    throw new OakError('not-flat', `Marker ${m.ids[index[far]]} lies ${worst[far].toFixed(1)} mm off the plane of the others.`, {
      remedy: 'Take only those that stick on the table itself.',
    })
  const facing = of(m.normals).reduce((s, v) => s + dot(v, fit.normal), 0)
  const turn = facing < 0 ? -1 : 1
  return { normal: fit.normal.map((v) => turn * v) as Vec3, offset: turn * fit.offset, used: index.length, sigma: fit.sigma }
}

/** By what a floor is found: the table as it was seen, or markers by their names. */
export interface FloorChoice {
  floor: 'table' | 'markers'
  floorMarkers: readonly string[]
}

/** Throws what the two ways throw, and OakError 'missing-input' where markers are to tell and there is no map. */
export function floorOf(o: FloorChoice, surface: GrowingSurface, map: Pick<Markers, 'ids' | 'positions' | 'normals'> | undefined): Floor {
  if (o.floor === 'table') return floorOfTable(surface)
  if (!map)
    throw new OakError('missing-input', 'Markers are to tell where the floor is, and no map holds the frames.', {
      remedy: 'Let the table itself tell.',
    })
  return floorOfMarkers(map, o.floorMarkers)
}

/** Whether a place lies beneath a floor that is raised by so much, mm. */
export const isBeneath = ({ normal, offset }: Plane, raise: number, x: number, y: number, z: number): boolean =>
  normal[0] * x + normal[1] * y + normal[2] * z - offset < raise
