import { z } from 'zod'
import { OakError } from '../base/errors.ts'
import { seeded } from '../base/random.ts'
import { quantile } from '../base/stats.ts'
import { fitSphere, type SphereFit } from '../fit/sphere.ts'
import { decide, worstVerdict, type Verdict } from '../uncertainty/decision.ts'
import { certificateSchema, readCertificate } from './plate.ts'

/** A ball bar and its certificate: two spheres of matt ceramic at a known distance. JSON file of our own, see docs/formats.md. */
export const ballBarSchema = z.object({
  format: z.literal('oak-gauge ball bar'),
  version: z.literal(1),
  id: z.string().min(1).max(60),
  name: z.string().min(1).max(120),
  /** diameter and its expanded uncertainty (k = 2), mm */
  spheres: z.tuple([
    z.object({ diameter: z.number().positive().max(200), uncertainty: z.number().nonnegative().max(0.1) }),
    z.object({ diameter: z.number().positive().max(200), uncertainty: z.number().nonnegative().max(0.1) }),
  ]),
  /** distance of the centres and its expanded uncertainty (k = 2), mm */
  distance: z.number().positive().max(5000),
  uncertainty: z.number().nonnegative().max(0.5),
  certificate: certificateSchema,
})
export type BallBar = z.output<typeof ballBarSchema>
export const readBallBarFile = (text: string, name = 'ball bar file'): BallBar => readCertificate(ballBarSchema, text, name)

/** Distance of the centres at a temperature, mm. */
export const barLength = (b: BallBar, celsius: number) => b.distance * (1 + b.certificate.expansion * 1e-6 * (celsius - b.certificate.temperature))

export interface SphereReading {
  centre: [number, number, number]
  diameter: number
  points: number
  /** points taken out as outliers, of those near the sphere */
  rejected: number
  /** width of the band around the sphere that holds 95 % of the points, mm */
  form: number
  /** measured less certified diameter, mm */
  size: number
  /** standard uncertainty of the centre along any direction, and of the diameter, mm, from the points */
  centreUncertainty: number
  sizeUncertainty: number
}

export interface BarReading {
  spheres: [SphereReading, SphereReading]
  /** measured less certified distance of the centres, mm */
  distance: number
  /** standard uncertainty of that, mm: of the artefact, its temperature and the two centres */
  uncertainty: number
  /** middle of the bar in scanner coordinates, mm, and its direction */
  middle: [number, number, number]
  direction: [number, number, number]
}

/** share of points that may be taken out as outliers after the sphere has been cut out: VDI/VDE 2634-3 allows 3 in 1000 */
const MAY_REJECT = 0.003
/** points within this share of the radius belong to the sphere, not to its stand; the cut is the same for any error of the scanner that can be judged */
const CUT = 0.12
/** cosine of the half angle of the cone that belongs to the rod */
const ROD_CONE = Math.cos((45 * Math.PI) / 180)

/**
 * Measures one position of the bar from scanned points (3N mm): finds the two spheres by consensus, cuts them out, fits each by least
 * squares with free radius, and compares with the certificate.
 * Throws 'no-spheres' (none or only one is in view), 'too-few-points'.
 */
export function readBar(points: ArrayLike<number>, bar: BallBar, celsius: number, celsiusUncertainty = 0.5): BarReading {
  const found = findSpheres(points, bar)
  const spheres = found.map((f, k) => {
    const o = found[1 - k].centre
    const rod = [0, 1, 2].map((i) => o[i] - f.centre[i])
    return measured(points, f, bar.spheres[k].diameter, rod)
  }) as [SphereReading, SphereReading]
  const [a, b] = spheres
  const d = [0, 1, 2].map((k) => b.centre[k] - a.centre[k])
  const length = Math.hypot(d[0], d[1], d[2])
  const temperature = bar.distance * bar.certificate.expansion * 1e-6 * celsiusUncertainty
  return {
    spheres,
    distance: length - barLength(bar, celsius),
    uncertainty: Math.hypot(bar.uncertainty / 2, temperature, a.centreUncertainty, b.centreUncertainty),
    middle: [0, 1, 2].map((k) => (a.centre[k] + b.centre[k]) / 2) as [number, number, number],
    direction: d.map((v) => v / length) as [number, number, number],
  }
}

function measured(points: ArrayLike<number>, start: SphereFit, certified: number, rod: number[]): SphereReading {
  let list = near(points, start, CUT * start.radius, rod)
  let fit = fitSphere(list)
  list = near(points, fit, CUT * fit.radius, rod)
  fit = fitSphere(list)
  const all = list.length / 3
  let residuals = distances(list, fit)
  // the worst few beyond three sigma, and no more than the guideline allows
  const order = Array.from(residuals.keys()).sort((i, j) => Math.abs(residuals[j]) - Math.abs(residuals[i]))
  const out = new Set(order.slice(0, Math.floor(MAY_REJECT * all)).filter((i) => Math.abs(residuals[i]) > 3 * fit.sigma))
  if (out.size) {
    list = Float64Array.from(list).filter((_, i) => !out.has(Math.floor(i / 3)))
    fit = fitSphere(list)
    residuals = distances(list, fit)
  }
  const c = fit.covariance
  return {
    centre: fit.centre,
    diameter: 2 * fit.radius,
    points: all,
    rejected: out.size,
    form: quantile(residuals, 0.975) - quantile(residuals, 0.025),
    size: 2 * fit.radius - certified,
    centreUncertainty: Math.sqrt(Math.max(c[0], c[5], c[10])),
    sizeUncertainty: 2 * Math.sqrt(c[15]),
  }
}

/** Points in the band around a sphere, without the cone towards the other one, where the rod holds it. */
function near(points: ArrayLike<number>, s: SphereFit, band: number, rod: number[]): Float64Array {
  const out: number[] = []
  const length = Math.hypot(rod[0], rod[1], rod[2])
  for (let i = 0; i + 2 < points.length; i += 3) {
    const x = points[i] - s.centre[0]
    const y = points[i + 1] - s.centre[1]
    const z = points[i + 2] - s.centre[2]
    const d = Math.sqrt(x * x + y * y + z * z)
    if (Math.abs(d - s.radius) > band || x * rod[0] + y * rod[1] + z * rod[2] > ROD_CONE * d * length) continue
    out.push(points[i], points[i + 1], points[i + 2])
  }
  if (out.length < 150)
    throw new OakError('too-few-points', `Only ${out.length / 3} points lie on a sphere.`, {
      remedy: 'Bring the bar to where the scanner sees both spheres, and adapt the exposure.',
    })
  return Float64Array.from(out)
}

const distances = (list: Float64Array, s: SphereFit): Float64Array =>
  Float64Array.from(
    { length: list.length / 3 },
    (_, i) => Math.hypot(list[3 * i] - s.centre[0], list[3 * i + 1] - s.centre[1], list[3 * i + 2] - s.centre[2]) - s.radius,
  )

/** Two spheres of about the certified sizes and distance, by consensus of four points at a time (Fischler and Bolles 1981). */
function findSpheres(points: ArrayLike<number>, bar: BallBar): [SphereFit, SphereFit] {
  const first = bestSphere(points, bar.spheres[0].diameter / 2, [])
  const second = first && bestSphere(points, bar.spheres[1].diameter / 2, [first])
  if (!first || !second)
    throw new OakError('no-spheres', first ? 'Only one sphere of the bar is in view.' : 'No sphere of the bar is in view.', {
      remedy: 'Turn the bar so that the scanner sees both spheres inside its working range.',
    })
  const d = Math.hypot(first.centre[0] - second.centre[0], first.centre[1] - second.centre[1], first.centre[2] - second.centre[2])
  if (Math.abs(d / bar.distance - 1) > 0.05)
    throw new OakError('no-spheres', `The two spheres seen are ${d.toFixed(1)} mm apart; the bar has ${bar.distance.toFixed(1)} mm.`, {
      remedy: 'Choose the certificate that belongs to this bar, or take other round things out of view.',
    })
  // of unlike spheres each has found its own; of like ones the order is that of the left one first
  if (bar.spheres[0].diameter === bar.spheres[1].diameter && first.centre[0] > second.centre[0]) return [second, first]
  return [first, second]
}

function bestSphere(points: ArrayLike<number>, radius: number, taken: SphereFit[]): SphereFit | undefined {
  const random = seeded(4)
  const all = Math.floor(points.length / 3)
  const stride = Math.max(1, Math.floor(all / 6000))
  const index: number[] = []
  for (let i = 0; i < all; i += stride) {
    const far = taken.every((t) => Math.hypot(points[3 * i] - t.centre[0], points[3 * i + 1] - t.centre[1], points[3 * i + 2] - t.centre[2]) > 1.3 * t.radius)
    if (far && points[3 * i] === points[3 * i]) index.push(i)
  }
  const n = index.length
  if (n < 40) return undefined
  let best: SphereFit | undefined
  let most = 0
  const four = new Float64Array(12)
  for (let trial = 0; trial < 1500; trial++) {
    const a = index[random.below(n)]
    let got = 1
    four.set([points[3 * a], points[3 * a + 1], points[3 * a + 2]])
    for (let tries = 0; tries < 60 && got < 4; tries++) {
      const b = index[random.below(n)]
      const d = Math.hypot(points[3 * b] - four[0], points[3 * b + 1] - four[1], points[3 * b + 2] - four[2])
      if (d < 0.25 * radius || d > 1.6 * radius) continue
      four.set([points[3 * b], points[3 * b + 1], points[3 * b + 2]], 3 * got++)
    }
    if (got < 4) continue
    let s: SphereFit
    try {
      s = fitSphere(four, radius)
    } catch {
      continue
    }
    if (s.rms > 0.1 * radius) continue
    let votes = 0
    for (const i of index) {
      const d = Math.sqrt((points[3 * i] - s.centre[0]) ** 2 + (points[3 * i + 1] - s.centre[1]) ** 2 + (points[3 * i + 2] - s.centre[2]) ** 2)
      if (Math.abs(d - radius) < 0.03 * radius) votes++
    }
    if (votes > most) {
      most = votes
      best = s
    }
  }
  return most >= 30 ? best : undefined
}

/** Largest permitted errors of a scanner, mm: its stated limits. */
export interface VerificationLimits {
  form: number
  size: number
  distance: number
}

export interface Verified {
  /** name, the value that decides over all positions, limit, expanded uncertainty (k = 2), verdict */
  rows: { name: 'form' | 'size' | 'distance'; value: number; limit: number; uncertainty: number; verdict: Verdict; position: number }[]
  verdict: Verdict
}

/**
 * Verdict over all positions: every value is judged with its own uncertainty, that of each sphere by its own certificate. The row
 * of each quantity is the value that decides: of those that fail the furthest beyond, else the one that comes nearest to
 * the limit with its uncertainty, which need not be the largest.
 */
export function verify(readings: BarReading[], bar: BallBar, limits: VerificationLimits): Verified {
  type Row = Verified['rows'][number]
  const of = (name: Row['name'], value: number, uncertainty: number, position: number): Row => ({
    name,
    value,
    limit: limits[name],
    uncertainty,
    verdict: decide(value, limits[name], uncertainty),
    position,
  })
  const decides = (list: Row[]): Row => {
    const failed = list.filter((r) => r.verdict === 'fail')
    const beyond = (r: Row) => Math.abs(r.value) + (failed.length ? -1 : 1) * r.uncertainty
    return (failed.length ? failed : list).reduce((a, b) => (beyond(b) > beyond(a) ? b : a))
  }
  const perSphere = (make: (s: SphereReading, certified: number, position: number) => Row) =>
    decides(readings.flatMap((r, i) => r.spheres.map((s, k) => make(s, bar.spheres[k].uncertainty, i))))
  const rows = [
    // spheres are round to some tenth of a micrometre: the form of the artefact is its diameter's uncertainty at most
    perSphere((s, U, i) => of('form', s.form, U, i)),
    perSphere((s, U, i) => of('size', s.size, 2 * Math.hypot(U / 2, s.sizeUncertainty), i)),
    decides(readings.map((r, i) => of('distance', r.distance, 2 * r.uncertainty, i))),
  ]
  return { rows, verdict: worstVerdict(rows.map((r) => r.verdict)) }
}
