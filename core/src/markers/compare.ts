import { OakError } from '../base/errors.ts'
import { invertRigid, transformPoint, type Mat4 } from '../base/mat4.ts'
import { makeConstellation } from './constellation.ts'
import { matchConstellation } from './match.ts'
import { worstUncertainty, type Markers } from './markers.ts'
import { quadratic3, turnSymmetric3 } from './sight.ts'

export interface MapDifference {
  /** brings the second set onto the first */
  pose: Mat4
  /** same marker, same place: index in the first and in the second, mm apart */
  same: { a: number; b: number; distance: number }[]
  /** same marker, another place; uncertainty: standard, of the distance */
  moved: { a: number; b: number; distance: number; uncertainty: number }[]
  /** of the first that the second does not have, and the other way round */
  gone: number[]
  added: number[]
  /** of those that stayed, mm */
  rms: number
}

export interface CompareOptions {
  /** how far a marker may lie beside its place and still count as there, standard deviation, mm. Default 0.01: what handling leaves */
  slack?: number
  /** how far a marker is looked for beside its place, mm. Default 20 */
  search?: number
  /** share of the second set's markers that must be where they were. Default 0: four, if chance would not make it */
  share?: number
}

/** normalised distance beyond which a marker has moved: chance does that once in 10^6 */
const MOVED = 5.5

/**
 * Two sets of markers that are partly the same: brought together by what kept its mutual distances, and every marker that
 * did not is named. For maps of two setups that share markers, for a map before and after a nudge, and for a plan and what was stuck.
 * Throws 'no-match' when fewer than four agree or chance could explain it, 'ambiguous' when they fit in more than one way, 'on-a-line'.
 */
export function compareMarkers(a: Markers, b: Markers, o: CompareOptions = {}): MapDifference {
  const slack = o.slack ?? 0.01
  const n = b.diameters.length
  const sigma = (m: Markers, i: number) => Math.hypot(worstUncertainty(m.covariance, i) || 0, slack / Math.SQRT2)
  const constellation = makeConstellation(a.positions, { diameters: a.diameters, sigma: Array.from(a.diameters, (_, i) => sigma(a, i)) })
  const info = new Float64Array(6 * n)
  for (let i = 0; i < n; i++) for (const k of [0, 3, 5]) info[6 * i + k] = 1 / sigma(b, i) ** 2
  const seen = { xyz: b.positions, diameters: b.diameters, info, noise: 1 }
  // a hand's millimetres leave room for many triangles: begin with those that fit well
  const deviations = slack > 0.1 ? 1.5 : 4
  // most are the same: quick. A few of many are: every triangle is tried
  let found = matchConstellation(constellation, seen, { deviations, mostHypotheses: 20_000 })
  if (found.kind === 'refused' && found.why !== 'on-a-line' && n <= 80)
    found = matchConstellation(constellation, seen, { deviations, share: o.share ?? 0, thorough: true, mostHypotheses: 20_000 })
  if (found.kind === 'refused') throw refusal(found.why, found.count, n)
  // the pose maps the first onto the second; what is wanted is the way back
  const back = invertRigid(found.pose)
  const same: MapDifference['same'] = []
  const takenA = new Set<number>()
  const takenB = new Set<number>()
  found.pairs.forEach((m, i) => {
    if (m < 0) return
    same.push({ a: m, b: i, distance: apart(a, m, b, i, back) })
    takenA.add(m)
    takenB.add(i)
  })
  const near: { a: number; b: number; distance: number }[] = []
  for (let i = 0; i < n; i++)
    if (!takenB.has(i))
      for (let m = 0; m < a.diameters.length; m++) {
        if (takenA.has(m) || (a.diameters[m] > 0 && b.diameters[i] > 0 && Math.abs(a.diameters[m] - b.diameters[i]) > 1)) continue
        const distance = apart(a, m, b, i, back)
        if (distance < (o.search ?? 20)) near.push({ a: m, b: i, distance })
      }
  near.sort((p, q) => p.distance - q.distance)
  const moved: MapDifference['moved'] = []
  for (const p of near) {
    if (takenA.has(p.a) || takenB.has(p.b)) continue
    takenA.add(p.a)
    takenB.add(p.b)
    const uncertainty = uncertaintyBetween(a, p.a, b, p.b, back, slack)
    if (p.distance > MOVED * uncertainty) moved.push({ ...p, uncertainty })
    else same.push(p)
  }
  return {
    pose: back,
    same,
    moved,
    gone: rest(a, takenA),
    added: rest(b, takenB),
    rms: Math.sqrt(same.reduce((s, p) => s + p.distance ** 2, 0) / Math.max(1, same.length)),
  }
}

const rest = (m: Markers, taken: Set<number>) => Array.from(m.diameters, (_, i) => i).filter((i) => !taken.has(i))

function refusal(why: string, count: number, n: number): OakError {
  if (why === 'ambiguous')
    return new OakError('ambiguous', 'The markers fit in more than one way: their layout repeats itself.', {
      remedy: 'Stick one or two more markers at irregular distances, and map them again.',
    })
  if (why === 'on-a-line')
    return new OakError('on-a-line', 'The markers in common lie on one line: the turn about it is not determined.', { remedy: 'Stick one more to the side.' })
  return new OakError('no-match', `Only ${count} of ${n} markers agree with the other set; that may be chance.`, {
    remedy: 'At least four markers, better six, must be the same and unmoved in both.',
  })
}

function apart(a: Markers, m: number, b: Markers, i: number, pose: Mat4): number {
  const p = transformPoint(pose, b.positions[3 * i], b.positions[3 * i + 1], b.positions[3 * i + 2])
  return Math.hypot(p[0] - a.positions[3 * m], p[1] - a.positions[3 * m + 1], p[2] - a.positions[3 * m + 2])
}

function uncertaintyBetween(a: Markers, m: number, b: Markers, i: number, pose: Mat4, slack: number): number {
  const c = new Float64Array(6)
  turnSymmetric3(pose, b.covariance, c, 6 * i)
  for (let k = 0; k < 6; k++) c[k] += a.covariance[6 * m + k]
  for (const k of [0, 3, 5]) c[k] += slack * slack
  const p = transformPoint(pose, b.positions[3 * i], b.positions[3 * i + 1], b.positions[3 * i + 2])
  const d = [0, 1, 2].map((k) => p[k] - a.positions[3 * m + k])
  const l = Math.hypot(d[0], d[1], d[2]) || 1
  return Math.sqrt(quadratic3(c, d[0] / l, d[1] / l, d[2] / l))
}
