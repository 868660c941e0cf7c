import { describe, expect, test } from '@jest/globals'
import { f32, u32 } from '../src/base/arrays.ts'
import { fromRotationVector, identity, transformPoint, translation, type Mat4 } from '../src/base/mat4.ts'
import { seeded } from '../src/base/random.ts'
import { quietContext } from '../src/base/run.ts'
import { bestFit } from '../src/datum/bestfit.ts'
import type { Field, Item } from '../src/operations/operation.ts'
import { q, QUANTITIES, wordsOf } from '../src/operations/quantities.ts'
import { runOperation } from '../src/operations/registry.ts'
import { makeMesh, type Mesh } from '../src/shape/mesh.ts'
import { makePoints, type Points } from '../src/shape/points.ts'
import { sampleMesh } from '../src/shape/sample.ts'
import { chordUncertainty } from '../src/uncertainty/chord.ts'
import { combined, withStated } from '../src/uncertainty/contribution.ts'
import { decide } from '../src/uncertainty/decision.ts'
import { withEarlierFigures } from '../src/operations/rules.ts'
import { framesHeld, lineage, lineageFigures, type Ran } from '../src/uncertainty/lineage.ts'
import { patchMean } from '../src/uncertainty/patch.ts'
import { placeUncertainty, worstPlaceUncertainty, type PoseUncertainty } from '../src/uncertainty/pose.ts'
import { scannerUncertainty } from '../src/uncertainty/scanner.ts'
import { boxMesh, oakError, sphereMesh, value } from './help.ts'
import { noisy as noisyAlong, patch as plane, plateViews } from './shapes.ts'

const item = <M extends Mesh | Points>(data: M, pose = identity(), name = 'part') => ({ name, data, pose })
const diagonal = (...d: number[]) => Array.from({ length: 36 }, (_, k) => (k % 7 === 0 ? d[k / 7] : 0))

describe('contributions', () => {
  test('independent ones add by their squares; one that is unknown leaves all unknown, and so does one that is no number', () => {
    expect(combined([{ u: 0.03 }, { u: 0.04 }])).toBeCloseTo(0.05, 12)
    expect(combined([])).toBe(0)
    expect([combined([{ u: 0.03 }, { u: 'unknown' }]), combined([{ u: Number.NaN }]), combined([{ u: Infinity }])]).toEqual(['unknown', 'unknown', 'unknown'])
  })
  test('what a person states stands in only for what is not known, and is marked', () => {
    const list = withStated(
      [
        { source: 'scanner', u: 'unknown' },
        { source: 'placing', u: 0.004 },
      ],
      { scanner: 0.02, placing: 1 },
    )
    expect(list).toEqual([
      { source: 'scanner', u: 0.01, stated: true },
      { source: 'placing', u: 0.004 },
    ])
  })
  test('a verified error is the half width of a rectangle (JCGM 100:2008, 4.3.7)', () => {
    expect(scannerUncertainty({ error: -0.03, U: 0.02 })).toBeCloseTo(Math.sqrt(0.03 ** 2 / 3 + 0.01 ** 2), 12)
  })
  test('nothing unknown is decided (ISO 14253-1)', () => {
    expect([decide(0.01, 1, 'unknown'), decide(5, 1, 'unknown'), decide(0.01, 1, Number.NaN)]).toEqual(['not decidable', 'not decidable', 'not decidable'])
  })
})

describe('quantities have ids, and words in one place', () => {
  test('every id has words, no two ids share words and unit', () => {
    const seen = Object.values(QUANTITIES).map(([words, unit]) => `${words} | ${unit}`)
    expect(new Set(seen).size).toBe(seen.length)
    expect(Object.keys(QUANTITIES).every((id) => /^[a-z0-9-]+$/.test(id))).toBe(true)
  })
  test('the unit comes with the id; words hold the figure that was asked for', () => {
    expect(q('within', 98, { at: 0.1 })).toEqual({ id: 'within', value: 98, unit: '%', at: 0.1 })
    expect([q('alignment-worst-pass', 'unknown').unit, q('volume', 'open').unit]).toEqual(['mm', ''])
    expect([wordsOf({ id: 'within', at: 0.1 }), wordsOf({ id: 'of-a-later-version' })]).toEqual(['within 0.1 mm', 'of-a-later-version'])
  })
})

describe('a pose carried on to a place', () => {
  const pose: PoseUncertainty = { of: 'x', about: [10, 20, 30], covariance: diagonal(1e-6, 4e-6, 0, 1e-4, 0, 9e-4) }
  test('as often drawn as computed', () => {
    const r = seeded(3)
    const at = [60, 0, 5]
    const n = [0.6, 0, 0.8]
    let ss = 0
    const draws = 4000
    for (let i = 0; i < draws; i++) {
      const m = fromRotationVector(1e-3 * r.gauss(), 2e-3 * r.gauss(), 0)
      const p = transformPoint(m, at[0] - 10, at[1] - 20, at[2] - 30)
      const t = [1e-2 * r.gauss(), 0, 3e-2 * r.gauss()]
      ss += [0, 1, 2].reduce((s, k) => s + n[k] * (p[k] + pose.about[k] + t[k] - at[k]), 0) ** 2
    }
    expect(Number(placeUncertainty(pose, at, n)) / Math.sqrt(ss / draws)).toBeCloseTo(1, 1)
  })
  test('along a free motion nothing is known, across it all is', () => {
    const free = { ...pose, free: [[0, 0, 0, 1, 0, 0]] }
    expect(placeUncertainty(free, [0, 0, 0], [1, 0, 0])).toBe('unknown')
    expect(placeUncertainty(free, [0, 0, 0], [0, 0, 1])).not.toBe('unknown')
    expect(placeUncertainty({ ...pose, covariance: null }, [0, 0, 0], [0, 0, 1])).toBe('unknown')
  })
  test('of passes, the least certain one that has seen the place', () => {
    const near = { of: 'a', about: [0, 0, 0], covariance: diagonal(0, 0, 0, 1e-4, 1e-4, 1e-4), box: [0, 0, 0, 10, 10, 10] }
    const far = { of: 'b', about: [0, 0, 0], covariance: diagonal(0, 0, 0, 1, 1, 1), box: [50, 0, 0, 60, 10, 10] }
    expect(worstPlaceUncertainty([near, far], [5, 5, 5], [0, 0, 1])).toBeCloseTo(0.01, 12)
    expect(worstPlaceUncertainty([near, far], [55, 5, 5], [0, 0, 1])).toBeCloseTo(1, 12)
    // where nobody was: the worst of all
    expect(worstPlaceUncertainty([near, far], [30, 5, 5], [0, 0, 1])).toBeCloseTo(1, 12)
    expect(worstPlaceUncertainty([], [30, 5, 5], [0, 0, 1])).toBe(0)
  })
})

describe('the mean of a patch', () => {
  const pitch = 0.2
  const flat = plane(12, 12, pitch)
  const n = flat.xyz.length / 3
  /** Noise that is alike over some cells: white noise averaged with a bell of this width (mm), at standard deviation 1. */
  function noise(seed: number, width: number): Float32Array {
    const r = seeded(seed)
    const side = Math.round(Math.sqrt(n))
    const white = Float64Array.from({ length: n }, () => r.gauss())
    const reach = Math.ceil((2.5 * width) / pitch)
    const out = f32(n)
    for (let y = 0; y < side; y++)
      for (let x = 0; x < side; x++) {
        let [s, ww] = [0, 0]
        for (let dy = -reach; dy <= reach; dy++)
          for (let dx = -reach; dx <= reach; dx++) {
            const w = width ? Math.exp(-((dx * dx + dy * dy) * pitch * pitch) / (2 * width * width)) : 1
            s += w * white[((y + dy + side) % side) * side + ((x + dx + side) % side)]
            ww += w * w
          }
        out[y * side + x] = s / Math.sqrt(ww)
      }
    return out
  }
  test.each([0, 0.15, 0.3, 0.6])('noise alike over %d mm: the stated error of the mean is the true one', (width) => {
    let [ss, stated] = [0, 0]
    const draws = 20
    const spots = [-3, 0, 3].flatMap((x) => [-3, 0, 3].map((y) => [6 + x, 6 + y, 0]))
    for (let d = 0; d < draws; d++) {
      const values = noise(100 + d, width)
      for (const at of spots) {
        const p = patchMean(values, flat, identity(), at, 0.8)
        ss += p.mean ** 2
        stated += Number(p.standardError) ** 2
      }
    }
    const ratio = Math.sqrt(ss / stated)
    // 180 means; those of one draw are not quite independent
    expect(ratio).toBeGreaterThan(0.8)
    expect(ratio).toBeLessThan(1.25)
  })
  test('the shape of the part is no noise; the normal is that of the surface, in the job', () => {
    const values = Float32Array.from({ length: n }, (_, i) => 0.5 + 0.03 * flat.xyz[3 * i] - 0.01 * flat.xyz[3 * i + 1] ** 2)
    const pose = fromRotationVector(Math.PI / 2, 0, 0, 5, 0, 0)
    const p = patchMean(values, flat, pose, transformPoint(pose, 6, 6, 0), 1)
    expect(Number(p.standardError)).toBeLessThan(1e-6)
    expect(p.spread).toBeGreaterThan(0.01)
    expect(Math.abs(p.normal?.[1] ?? 0)).toBeCloseTo(1, 9)
  })
  test('places on one line have no normal: across which surface would not be known', () => {
    const line = makePoints({ xyz: f32(300).map((_, i) => (i % 3 ? 0 : i / 30)) })
    const p = patchMean(f32(100).fill(0.1), line, identity(), [5, 0, 0], 0.8)
    expect([p.count > 6, p.normal]).toEqual([true, null])
  })
  test('too few values tell no scatter; far from all values there is no flag', async () => {
    const values = f32(n).fill(0.1)
    expect(patchMean(values, flat, identity(), [6, 6, 0], 0.01)).toMatchObject({ count: 1, standardError: 'unknown', normal: null })
    expect(patchMean(values, flat, identity(), [6, 6, 0], 0.21)).toMatchObject({ count: 5, standardError: 'unknown' })
    const e = await oakError(Promise.resolve().then(() => patchMean(values, flat, identity(), [60, 6, 0], 0.8)))
    expect([e.code, e.remedy !== '']).toEqual(['no-value', true])
  })
})

/** A tube along z of so many facets, with its ends open. */
function tube(r: number, length: number, facets: number): Mesh {
  const v: number[] = []
  const t: number[] = []
  for (let i = 0; i < facets; i++) {
    const a = (2 * Math.PI * i) / facets
    v.push(r * Math.cos(a), r * Math.sin(a), 0, r * Math.cos(a), r * Math.sin(a), length)
    const [p, s] = [2 * i, (2 * i + 2) % (2 * facets)]
    t.push(p, s, s + 1, p, s + 1, p + 1)
  }
  return makeMesh({ vertices: f32(v.length).map((_, i) => v[i]), triangles: u32(t.length).map((_, i) => t[i]) })
}

describe('facets of a nominal', () => {
  test('a round one leaves its surface by its sagitta; a flat one, and a true edge, by nothing', () => {
    for (const facets of [16, 24, 90]) {
      const sagitta = 15 * (1 - Math.cos(Math.PI / facets))
      expect(chordUncertainty(tube(15, 40, facets), [15, 0.1, 20]) / (sagitta / Math.sqrt(3))).toBeCloseTo(1, 2)
    }
    expect(chordUncertainty(boxMesh(60, 40, 20), [30, 20, 20])).toBe(0)
    expect(chordUncertainty(tube(15, 40, 4), [15, 0.1, 20])).toBe(0)
  })
  test('corners of a file that has each triangle by itself are still one corner', () => {
    const t = tube(15, 40, 24)
    const apart = makeMesh({
      vertices: f32(3 * t.triangles.length).map((_, i) => t.vertices[3 * t.triangles[Math.floor(i / 3)] + (i % 3)]),
      triangles: u32(t.triangles.length).map((_, i) => i),
    })
    expect(chordUncertainty(apart, [15, 0.1, 20])).toBeCloseTo(chordUncertainty(t, [15, 0.1, 20]), 9)
  })
  test('a wide flat face beside a fillet is not taken for a facet of it', () => {
    // a plane of 50 mm that bends by 5 degrees into a facet of 0.4 mm
    const a = (5 * Math.PI) / 180
    const v = [-50, 0, 0, 0, 0, 0, 0, 30, 0, -50, 30, 0, 0.4 * Math.cos(a), 0, -0.4 * Math.sin(a), 0.4 * Math.cos(a), 30, -0.4 * Math.sin(a)]
    const mesh = makeMesh({ vertices: Float32Array.from(v), triangles: Uint32Array.of(0, 1, 3, 1, 2, 3, 1, 4, 2, 4, 5, 2) })
    expect(chordUncertainty(mesh, [-1, 20, 0])).toBeLessThan(0.005)
  })
})

describe('the placing on a nominal', () => {
  const block = boxMesh(60, 40, 20)
  /** Noise with a smooth part that is alike over centimetres, as of a scanner's calibration. */
  function scan(seed: number, smooth: number): Points {
    const s = sampleMesh(block, 12_000, seed)
    const r = seeded(seed)
    const waves = Array.from({ length: 6 }, () => ({ k: [0, 1, 2].map(() => 0.25 * r.gauss()), phase: 6.28 * r.next() }))
    const xyz = s.xyz.slice()
    for (let i = 0; i < xyz.length; i += 3) {
      let e = 0.01 * r.gauss()
      for (const w of waves) e += ((smooth * Math.SQRT2) / Math.sqrt(6)) * Math.sin(w.k[0] * xyz[i] + w.k[1] * xyz[i + 1] + w.k[2] * xyz[i + 2] + w.phase)
      for (let k = 0; k < 3; k++) xyz[i + k] += e * s.normals[i + k]
    }
    return makePoints({ xyz })
  }
  const places: [number[], number[]][] = [
    [
      [55, 35, 20],
      [0, 0, 1],
    ],
    [
      [0, 20, 10],
      [1, 0, 0],
    ],
    [
      [30, 0, 5],
      [0, 1, 0],
    ],
    [
      [5, 5, 20],
      [0, 0, 1],
    ],
  ]
  test.each([
    [0, 'independent'],
    [0.02, 'smooth'],
  ])('with noise whose smooth part is %d mm (%s) it is off as often as it says', async (smooth) => {
    let z = 0
    let count = 0
    for (let seed = 1; seed <= 12; seed++) {
      const r = await bestFit(item(scan(seed, smooth)), item(block), { reach: 2 }, quietContext)
      for (const [at, n] of places) {
        const p = transformPoint(r.pose, at[0], at[1], at[2])
        const off = [0, 1, 2].reduce((s, k) => s + n[k] * (p[k] - at[k]), 0)
        z += (off / Number(placeUncertainty(r.placing, at, n))) ** 2
        count++
      }
    }
    expect(Math.sqrt(z / count)).toBeGreaterThan(0.6)
    expect(Math.sqrt(z / count)).toBeLessThan(1.6)
  })
  test('a fit to one face knows nothing along it; turned in the job, it knows the same', async () => {
    const turn = fromRotationVector(0.5, -0.3, 0.9, 300, -40, 7)
    const faces = Uint32Array.from({ length: 12 }, (_, i) => Math.floor(i / 2))
    const nominal = { ...block, faces }
    for (const pose of [identity(), turn] as Mat4[]) {
      const r = await bestFit(item(scan(4, 0), pose), item(nominal, pose), { faces: [5], reach: 1 }, quietContext)
      const all = [0, 1, 2].map((k) => {
        const n = [0, 1, 2].map((c) => (c === k ? 1 : 0))
        const along = [0, 1, 2].map((row) => pose[4 * row] * n[0] + pose[4 * row + 1] * n[1] + pose[4 * row + 2] * n[2])
        return placeUncertainty(r.placing, transformPoint(pose, 30, 20, 10), along)
      })
      // face 5 looks along one axis: that one is held, the other two are not
      expect(all.filter((u) => u === 'unknown')).toHaveLength(2)
      expect(Number(all.find((u) => u !== 'unknown'))).toBeLessThan(0.003)
    }
  })
  test('the rms is that of the distances, not of the weights', async () => {
    const r = await bestFit(item(scan(2, 0)), item(block), { reach: 1 }, quietContext)
    // 0.01 mm as drawn, less what six motions take: far less than a percent
    expect(Math.abs(r.rms / 0.01 - 1)).toBeLessThan(0.02)
  })
})

describe('what was filled is not measured', () => {
  /** A ball whose lower half was filled 0.5 mm too deep. */
  const ball = sphereMesh(10, 60)
  const filled = ball.triangles.reduce<number[]>(
    (list, _, i) => (i % 3 ? list : [...list, [0, 1, 2].every((k) => ball.vertices[3 * ball.triangles[i + k] + 2] < -0.01) ? 1 : 0]),
    [],
  )
  const part = makeMesh({
    vertices: ball.vertices.map((v, i) => (ball.vertices[3 * Math.floor(i / 3) + 2] < -0.6 ? 0.95 * v : v)),
    triangles: ball.triangles,
    unmeasured: Uint8Array.from(filled),
  })
  test('no deviation there, none in the statistics, no flag; the best fit does not look at it', async () => {
    const nominal = item(sphereMesh(10, 120))
    const r = await runOperation('deviation', { measured: [item(part)], nominal: [nominal] }, { limit: 0.1 }, quietContext)
    const values = (r.outputs['field'] as Item<Field>[])[0].data.values
    for (let i = 0; i < values.length; i++) if (part.vertices[3 * i + 2] < -1) expect(values[i]).toBeNaN()
    expect(Math.abs(Number(value(r.evidence, 'largest-missing')))).toBeLessThan(0.1)
    expect(value(r.evidence, 'within')).toBeCloseTo(100, 6)
    expect(r.evidence.warnings.join()).toMatch(/filled, not measured/)
    const e = await oakError(runOperation('flag', { field: r.outputs['field'], on: [item(part)] }, { at: [0, 0, -9.5] }, quietContext))
    expect(e.code).toBe('no-value')
    const fit = await bestFit(item(part), nominal, { reach: 1, robust: false }, quietContext)
    expect(Math.hypot(fit.pose[3], fit.pose[7], fit.pose[11])).toBeLessThan(0.01)
    const facts = await runOperation('facts', { mesh: [item(part)] }, {}, quietContext)
    expect(facts.evidence.warnings.join()).toMatch(/filled, not measured: area and volume rest on it/)
  })
})

const ran = (operation: string, inputs: Ran['inputs'], outputs: Ran['outputs'], more: Partial<Ran> = {}): Ran => ({
  operation,
  inputs,
  outputs,
  evidence: null,
  ...more,
})
const pose = (of: string, u: number): PoseUncertainty => ({ of, about: [0, 0, 0], covariance: diagonal(0, 0, 0, u * u, u * u, u * u) })

describe('the lineage of an item', () => {
  const verified = { recordedWith: { distance: { error: 0.02, U: 0.01 } } }
  const adjusted = { evidence: { quantities: [{ id: 'alignment-worst-pass', value: 0.02 }], poses: [pose('a', 0), pose('b', 0.02)] } }
  const path = [
    ran('import', {}, { item: ['a'] }, verified),
    ran('import', {}, { item: ['b'] }, verified),
    ran('import', {}, { item: ['other'] }),
    ran('import', {}, { item: ['cad'] }),
    ran('strays', { passes: ['a', 'b'] }, { passes: ['a', 'b'] }),
    ran('adjust', { passes: ['a', 'b'] }, { passes: ['a', 'b'], places: ['p'], gaps: ['g'] }, adjusted),
    ran('merge', { passes: ['a', 'b'] }, { mesh: ['m'] }),
    ran('best-fit', { measured: ['m'], nominal: ['cad'] }, { measured: ['m'] }, { evidence: { quantities: [], poses: [pose('m', 0.003)] } }),
  ]
  test('holds what the item was made of, and not what it was compared with', () => {
    expect(lineage(path, ['m']).map((s) => s.operation)).toEqual(['import', 'import', 'strays', 'adjust', 'merge', 'best-fit'])
    const f = lineageFigures(path, 'm')
    expect(f.scanner).toBeCloseTo(scannerUncertainty({ error: 0.02, U: 0.01 }), 12)
    expect([f.alignment, f.placing]).toEqual([adjusted.evidence.poses, pose('m', 0.003)])
  })
  test('a pass of another scanner, nothing adjusted, one moved since, never placed: unknown', () => {
    const unverified = path.map((s, i) => (i === 1 ? { ...s, recordedWith: null } : s))
    expect(lineageFigures(unverified, 'm').scanner).toBe('unknown')
    const not = (op: string) => path.filter((s) => s.operation !== op)
    expect([lineageFigures(not('adjust'), 'm').alignment, lineageFigures(not('best-fit'), 'm').placing]).toEqual(['unknown', 'unknown'])
    const moved = [...path.slice(0, 6), ran('align-shape', { anchor: ['a'], loose: ['b'] }, { loose: ['b'] }), ...path.slice(6)]
    expect(lineageFigures(moved, 'm').alignment).toBe('unknown')
    const more = path.map((s) => (s.operation === 'merge' ? { ...s, inputs: { passes: ['a', 'b', 'other'] } } : s))
    expect(lineageFigures(more, 'm').alignment).toBe('unknown')
  })
  test('of a recorded pass counts the scanner that recorded it, and how its frames were held: the worst pass', () => {
    const solved = (slot: string, sigma: number | string, more: Partial<Ran> = verified) =>
      ran('solve-recording', {}, { pass: [slot] }, { evidence: { quantities: [{ id: 'frame-sigma-median', value: sigma }] }, ...more })
    const merged = ran('merge', { passes: ['a', 'b'] }, { mesh: ['m'] })
    const of = (...s: Ran[]) => lineageFigures([...s, merged], 'm')
    const both = of(solved('a', 0.006), solved('b', 0.02))
    expect([both.scanner, both.frames]).toEqual([scannerUncertainty({ error: 0.02, U: 0.01 }), 0.02])
    // one that came as it is knows of no frames; one that was recorded with what was not verified is not known, whatever the other was
    expect(of(path[0], solved('b', 0.02)).frames).toBe(0.02)
    expect([of(path[0], path[1]).frames, of(path[0], solved('b', 0.02, { recordedWith: null })).scanner]).toEqual([null, 'unknown'])
    const printed = solved('b', 0.03, {
      ...verified,
      evidence: { quantities: ['frame-sigma-median', 'stretch-by-print'].map((id, k) => ({ id, value: [0.03, 0.08][k] })) },
    })
    expect(of(printed).frames).toBeCloseTo(0.05, 9)
    expect([of(path[0], solved('b', 'unknown')).frames, framesHeld([ran('solve-recording', {}, { pass: ['a'] })])]).toEqual(['unknown', 'unknown'])
  })
  test('an adjustment is told how well each recorded pass lies in its setup: known, its axes its own, or nothing', () => {
    const solved = (slot: string, covariance: number[] | null) =>
      ran('solve-recording', {}, { pass: [slot] }, { evidence: { quantities: [], poses: [{ of: slot, about: [1, 2, 3], covariance }] } })
    const well = diagonal(0, 0, 0, 1, 1, 1)
    const steps = [solved('a', well), solved('b', null), path[1], ran('strays', { passes: ['a'] }, { passes: ['a'] })]
    const told = (...passes: string[]) => withEarlierFigures('adjust', { anchor: 0 }, { passes }, steps)
    expect(told('a', 'b', 'c')).toEqual({ anchor: 0, held: [{ about: [1, 2, 3], covariance: well }, { about: [1, 2, 3], covariance: null }, null] })
    expect(told('c')).toEqual({ anchor: 0 })
  })
  test('one pass, or a mesh that was brought, has nothing to align', () => {
    expect(lineageFigures([path[0], ran('merge', { passes: ['a'] }, { mesh: ['m'] })], 'm').alignment).toEqual([])
    expect(lineageFigures([ran('import', {}, { item: ['m'] })], 'm')).toEqual({ scanner: 'unknown', frames: null, alignment: [], placing: 'unknown' })
  })
  test('an adjustment of an earlier version stands with its worst pass for all', () => {
    const old = path.map((s) => (s.operation === 'adjust' ? { ...s, evidence: { quantities: [{ id: 'alignment-worst-pass', value: 0.02 }] } } : s))
    const list = lineageFigures(old, 'm').alignment as PoseUncertainty[]
    expect(worstPlaceUncertainty(list, [100, 50, 3], [0, 0.6, 0.8])).toBeCloseTo(0.02, 12)
  })
})

describe('an adjustment tells how well each pose is known', () => {
  test('against the mean of all passes each is as far off as it says, over many recordings', async () => {
    let [z, count, largest] = [0, 0, 0]
    const clean = await plateViews(3, 0, 0.6)
    for (let seed = 0; seed < 6; seed++) {
      const random = seeded(900 + seed)
      const views = clean.map((v) => ({ ...v, data: noisyAlong(v.data, 0.02, random) }))
      const off = views.map((v, i) => ({ ...v, pose: i ? translation(0.1 * random.gauss(), 0.1 * random.gauss(), 0.1 * random.gauss()) : identity() }))
      const r = await runOperation('adjust', { passes: off }, {}, quietContext)
      const poses = r.evidence.poses ?? []
      expect(poses.map((p) => p.of)).toEqual(views.map((v) => v.name))
      const moves = (r.outputs['passes'] as Item[]).map((p) => p.pose)
      // the mean motion of the three, as small motions add
      for (const at of [
        [20, 10, 20],
        [80, 50, 20],
        [50, 30, 0],
      ]) {
        const places = moves.map((m) => transformPoint(m, at[0], at[1], at[2]))
        const mean = [0, 1, 2].map((k) => places.reduce((s, p) => s + p[k], 0) / 3)
        places.forEach((p, i) => {
          const u = Number(placeUncertainty(poses[i], at, [0, 0, 1]))
          largest = Math.max(largest, u)
          z += ((p[2] - mean[2]) / u) ** 2
          count++
        })
      }
    }
    expect(largest).toBeLessThan(0.01)
    // careful, but not beyond measure
    expect(Math.sqrt(z / count)).toBeGreaterThan(0.3)
    expect(Math.sqrt(z / count)).toBeLessThan(1.5)
  })
})
