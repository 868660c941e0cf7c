import { describe, expect, it } from '@jest/globals'
import { seeded } from '../src/base/random.ts'
import { barLength, ballBarSchema, type BallBar, readBar, readBallBarFile, verify, type BarReading, type SphereReading } from '../src/calibrate/ballbar.ts'
import { barPositions } from '../src/calibrate/barpositions.ts'
import { fitSphere } from '../src/fit/sphere.ts'
import { decide, worstVerdict } from '../src/uncertainty/decision.ts'
import { suitability } from '../src/inspect/suitability.ts'
import { fixtureJson } from './help.ts'

const BAR = ballBarSchema.parse({
  format: 'oak-gauge ball bar',
  version: 1,
  id: 'B',
  name: 'Test bar',
  spheres: [
    { diameter: 38.1, uncertainty: 0.001 },
    { diameter: 25.4, uncertainty: 0.001 },
  ],
  distance: 200,
  uncertainty: 0.002,
  certificate: { number: 'B1', date: '2026-01-01', expansion: 1 },
})

describe('sphere fits', () => {
  // 40-digit answers by two methods, see fixtures/NOTICE
  it.each<any>(fixtureJson('fits/lsq_primitives.json').cases.filter((c: any) => c.kind === 'sphere'))('$id to 1e-6 mm', (c: any) => {
    const f = fitSphere(c.points_mm.flat())
    ;[...f.centre, f.radius, f.rms].forEach((v, i) =>
      expect(Math.abs(v - [...c.reference.center, c.reference.radius, c.reference.rms_mm][i])).toBeLessThan(1e-6),
    )
  })
  it('far from the origin it loses nothing', () => {
    const p = cap(seeded(1), [1e6, -2e6, 3e6], 20, 400, 0)
    const f = fitSphere(Float64Array.from(p))
    expect(Math.hypot(f.centre[0] - 1e6, f.centre[1] + 2e6, f.centre[2] - 3e6)).toBeLessThan(1e-6)
  })
  it('its covariance is what repeating shows', () => {
    const z: number[] = []
    for (let k = 0; k < 60; k++) {
      const f = fitSphere(cap(seeded(k + 10), [5, 6, 7], 20, 300, 0.02))
      z.push((f.radius - 20) / Math.sqrt(f.covariance[15]))
    }
    const rms = Math.sqrt(z.reduce((s, v) => s + v * v, 0) / z.length)
    expect([rms > 0.75, rms < 1.3]).toEqual([true, true])
  })
  it('points on a plane, or too few, are refused', () => {
    const flat = Array.from({ length: 50 }, (_, i) => [Math.cos(i), Math.sin(2 * i), 4]).flat()
    expect(() => fitSphere(flat)).toThrow('plane')
    expect(() => fitSphere([0, 0, 0, 1, 1, 1])).toThrow('do not determine')
  })
})

/** Points on the half of a sphere that faces -z. */
function cap(random: ReturnType<typeof seeded>, c: number[], r: number, n: number, noise: number): number[] {
  const out: number[] = []
  while (out.length < 3 * n) {
    const v = [random.gauss(), random.gauss(), random.gauss()]
    const l = Math.hypot(...v)
    if (v[2] / l > -0.25) continue
    const d = r + noise * random.gauss()
    out.push(...v.map((x, i) => c[i] + (d * x) / l))
  }
  return out
}

/** A bar as a scanner with a given error of scale sees it: spheres, rod, strays. */
function scanned(scale: number, noise = 0.01, seed = 1): number[] {
  const random = seeded(seed)
  const ends = [
    [-100, 10, 400],
    [-100 + 200, 10, 400],
  ]
  const rod = Array.from({ length: 600 }, () => [-100 + 200 * random.next(), 10 + 6 * (random.next() - 0.5), 394]).flat()
  const strays = Array.from({ length: 80 }, () => [300 * (random.next() - 0.5), 200 * (random.next() - 0.5), 300 + 200 * random.next()]).flat()
  return [...cap(random, ends[0], 19.05, 900, noise), ...cap(random, ends[1], 12.7, 700, noise), ...rod, ...strays].map((v) => v * scale)
}

describe('ball bar', () => {
  it('reads both spheres among rod and strays; the distance error is that of the scale', () => {
    const good = readBar(scanned(1), BAR, 20)
    expect(Math.abs(good.distance)).toBeLessThan(0.005)
    expect(good.spheres.map((s) => Math.abs(s.size) < 0.01)).toEqual([true, true])
    expect(good.spheres[0].form).toBeCloseTo(4 * 0.01 * 0.98, 2)
    expect(readBar(scanned(1.0005), BAR, 20).distance).toBeCloseTo(0.1, 2)
  })
  it('knows the bar’s own expansion', () => {
    expect(barLength(BAR, 30)).toBeCloseTo(200.002, 9)
    expect(readBar(scanned(1), BAR, 30).distance).toBeCloseTo(readBar(scanned(1), BAR, 20).distance - 0.002, 9)
  })
  it('one sphere, none, or another bar: said', () => {
    const half = scanned(1).filter((_, i) => i < 2700)
    expect(() => readBar(half, BAR, 20)).toThrow('Only one sphere')
    const dust = seeded(5)
    expect(() =>
      readBar(
        Array.from({ length: 3000 }, () => 100 * dust.next()),
        BAR,
        20,
      ),
    ).toThrow('No sphere')
    expect(() => readBar(scanned(1), { ...BAR, distance: 150 }, 20)).toThrow(/mm apart; the bar has 150.0 mm/)
  })
  it('a verdict carries uncertainty (ISO 14253-1)', () => {
    expect([decide(0.04, 0.06, 0.01), decide(-0.055, 0.06, 0.01), decide(0.065, 0.06, 0.01), decide(-0.08, 0.06, 0.01)]).toEqual([
      'pass',
      'not decidable',
      'not decidable',
      'fail',
    ])
    expect([worstVerdict(['pass', 'fail', 'not decidable']), worstVerdict(['pass', 'not decidable']), worstVerdict([])]).toEqual([
      'fail',
      'not decidable',
      'not decidable',
    ])
    const limits = { form: 0.2, size: 0.05, distance: 0.05 }
    const v = verify([readBar(scanned(1), BAR, 20), readBar(scanned(1.001, 0.01, 2), BAR, 20)], BAR, limits)
    expect([v.verdict, v.rows.map((r) => r.verdict), v.rows[2].position]).toEqual(['fail', ['pass', expect.any(String), 'fail'], 1])
  })
  it('each sphere is judged by its own certificate; a smaller error with a larger uncertainty can decide', () => {
    const reading = readBar(scanned(1), BAR, 20)
    const with2 = (a: Partial<SphereReading>, b: Partial<SphereReading>): BarReading => ({
      ...reading,
      spheres: [
        { ...reading.spheres[0], sizeUncertainty: 0, ...a },
        { ...reading.spheres[1], sizeUncertainty: 0, ...b },
      ],
    })
    const bar = {
      ...BAR,
      spheres: [
        { diameter: 19.05, uncertainty: 0.001 },
        { diameter: 12.7, uncertainty: 0.03 },
      ],
    } as BallBar
    const limits = { form: 0.05, size: 0.05, distance: 1 }
    const v = verify([with2({ form: 0.045, size: 0.04 }, { form: 0.03, size: 0.03 })], bar, limits)
    // 0.045 + 0.001 is within 0.05, 0.030 + 0.030 is not proven to be
    expect(v.rows.slice(0, 2).map((r) => [r.verdict, r.value, r.uncertainty])).toEqual([
      ['not decidable', 0.03, 0.03],
      ['not decidable', 0.03, 0.03],
    ])
    const swapped = verify([with2({ form: 0.045, size: 0.04 }, { form: 0.01, size: -0.01 })], bar, limits)
    expect(swapped.rows.slice(0, 2).map((r) => [r.verdict, r.value])).toEqual([
      ['pass', 0.045],
      ['pass', 0.04],
    ])
    // one that fails beyond doubt is shown, whatever else is undecided
    const failed = verify([with2({ size: 0.06 }, { size: 0.055 })], bar, limits)
    expect([failed.verdict, failed.rows[1].value]).toEqual(['fail', 0.06])
  })
  it('positions fill the working volume', () => {
    const list = barPositions({ near: 250, ideal: 400, far: 550 })
    expect(list).toHaveLength(7)
    for (const p of list) expect([p.pose[11] >= 400, p.pose[11] < 550]).toEqual([true, true])
  })
  it('certificates: a negative distance, NaN', () => {
    expect(() => readBallBarFile(JSON.stringify({ ...BAR, distance: -3 }))).toThrow()
    expect(() => readBallBarFile(JSON.stringify(BAR).replace('200', 'NaN'))).toThrow('NaN')
  })
})

describe('is the scanner fine enough', () => {
  // common practice, no source: a tenth of the tolerance is comfortable, a fifth the most
  it.each([
    [0.008, 0.002, 0.2, 'fine'],
    [0.02, 0.01, 0.2, 'tight'],
    [-0.05, 0.01, 0.2, 'too-coarse'],
  ])('error %d, U %d, tolerance %d: %s', (e, u, t, level) => expect(suitability(e, u, t).level).toBe(level))
})
