import { describe, expect, it } from '@jest/globals'
import { invertRigid, multiply, transformPoint } from '../src/base/mat4.ts'
import { seeded } from '../src/base/random.ts'
import { makeConstellation, nearestKnown } from '../src/markers/constellation.ts'
import { matchConstellation } from '../src/markers/match.ts'
import { framePose, posesOfTriangles } from '../src/markers/framepose.ts'
import { findLookAlikes } from '../src/markers/lookalike.ts'
import { stereoSight } from '../src/markers/sight.ts'
import { makeTracker, widestAngle } from '../src/markers/tracker.ts'
import { lookingAt, seeMarkers } from '../src/scanner/seemarkers.ts'
import { infoOf, NOISE, pathAt, record, SPEC, STEREO, strewn, type Layout } from './marking.ts'

const sight = stereoSight(STEREO)
const known = (l: Layout) => makeConstellation(l.positions, { diameters: l.diameters, normals: l.normals, sigma: l.diameters.map(() => 0.003), reach: 500 })

/** A frame from a random place over the layout. */
function frameOver(l: Layout, w: number, h: number, seed: number, strays = 0.5) {
  const r = seeded(seed)
  const az = 2 * Math.PI * r.next()
  const el = ((45 + 44 * r.next()) * Math.PI) / 180
  const d = 300 + 200 * r.next()
  const t = [(r.next() - 0.5) * w, (r.next() - 0.5) * h, 0]
  const pose = lookingAt([t[0] + d * Math.cos(el) * Math.cos(az), t[1] + d * Math.cos(el) * Math.sin(az), d * Math.sin(el)], t, 360 * r.next())
  const seen = seeMarkers(SPEC, STEREO, STEREO, l, [], { pose, noise: NOISE, seed, strays, dropouts: 0.15 })
  return { pose, truth: seen.truth, seen: { xyz: seen.xyz, diameters: seen.diameters, info: infoOf(seen.xyz, sight), noise: NOISE } }
}

/** Share of frames that were found, and how many of them wrongly. */
function many(l: Layout, over: Layout, w: number, h: number, frames: number) {
  const c = known(l)
  const out = { found: 0, wrong: 0, why: {} as Record<string, number>, tried: 0 }
  for (let k = 0; k < frames; k++) {
    const f = frameOver(over, w, h, 31 * k + 7)
    if (f.truth.length < 4) continue
    out.tried++
    const m = matchConstellation(c, f.seen)
    if (m.kind === 'refused') out.why[m.why] = (out.why[m.why] ?? 0) + 1
    else {
      out.found++
      if (over !== l || m.pairs.some((p, i) => p >= 0 && p !== f.truth[i])) out.wrong++
    }
  }
  return out
}

describe('finding a frame among known markers', () => {
  const layout = strewn(seeded(3), 300, 1100, 900)

  it('finds nearly every frame of a large map, and none wrongly', () => {
    const r = many(layout, layout, 900, 700, 300)
    expect(r.wrong).toBe(0)
    expect(r.found / r.tried).toBeGreaterThan(0.95)
  })

  it('accepts nothing of markers it does not know', () => {
    const r = many(layout, strewn(seeded(4), 300, 1100, 900), 900, 700, 300)
    expect(r.found).toBe(0)
  })

  it('refuses a regular grid as ambiguous instead of guessing', () => {
    const grid: Layout = { positions: [], normals: [], diameters: [] }
    for (let i = 0; i < 300; i++) {
      grid.positions.push((i % 20) * 60 - 570, Math.floor(i / 20) * 60 - 420, 0)
      grid.normals.push(0, 0, 1)
      grid.diameters.push(6)
    }
    const r = many(grid, grid, 700, 500, 100)
    expect(r.found).toBe(0)
    expect(r.why['ambiguous']).toBeGreaterThan(60)
  })

  it('is not deceived by groups that repeat themselves', () => {
    const r = seeded(8)
    const twins: Layout = { positions: [], normals: [], diameters: [] }
    const group = strewn(r, 7, 180, 180, 35)
    for (let k = 0; k < 12; k++) {
      const own = k % 2 ? group : strewn(r, 7, 180, 180, 35)
      for (let i = 0; i < 7; i++) {
        twins.positions.push(own.positions[3 * i] + (k % 4) * 300 - 450, own.positions[3 * i + 1] + Math.floor(k / 4) * 300 - 300, own.positions[3 * i + 2])
        twins.normals.push(0, 0, 1)
        twins.diameters.push(own.diameters[i])
      }
    }
    const found = many(twins, twins, 1000, 700, 500)
    expect(found.wrong).toBe(0)
    expect(found.found).toBeGreaterThan(100)
    const alike = findLookAlikes(twins.positions, twins.diameters)
    expect(alike.length).toBeGreaterThan(0)
    // only within the repeated groups
    for (const g of alike.filter((x) => x.one.length >= 6)) expect([...g.one, ...g.other].every((m) => Math.floor(m / 7) % 2 === 1)).toBe(true)
  })

  it('says what is wrong with a frame that cannot be placed', () => {
    const c = known(layout)
    const of = (xyz: number[]) => matchConstellation(c, { xyz, info: infoOf(xyz, sight), noise: NOISE })
    expect(of([0, 0, 400, 50, 0, 400, 0, 60, 400])).toMatchObject({ kind: 'refused', why: 'too-few' })
    expect(of([0, 0, 400, 50, 0, 400, 110, 0.5, 400, 170, 0, 401, 240, 0, 400])).toMatchObject({ kind: 'refused', why: 'on-a-line' })
    const r = seeded(6)
    const false200 = Array.from({ length: 200 }, () => [(r.next() - 0.5) * 300, (r.next() - 0.5) * 200, 380 + 40 * r.next()]).flat()
    expect(of(false200)).toMatchObject({ kind: 'refused' })
    // eight true ones among two hundred false: most of what is seen is unknown, which is not taken for certain
    const f = frameOver(layout, 500, 400, 99, 0)
    const mixed = [...f.seen.xyz, ...false200]
    expect(of(mixed)).toMatchObject({ kind: 'refused' })
  })

  it('refuses four markers of equal distances: they fit in many ways', () => {
    const a = 60
    const tetrahedron = [0, 0, 0, a, 0, 0, a / 2, (a * Math.sqrt(3)) / 2, 0, a / 2, a / (2 * Math.sqrt(3)), a * Math.sqrt(2 / 3)]
    const xyz = tetrahedron.map((v, i) => v + (i % 3 === 2 ? 400 : 0))
    expect(matchConstellation(makeConstellation(tetrahedron), { xyz, info: infoOf(xyz), noise: 0.02 })).toMatchObject({ kind: 'refused', why: 'ambiguous' })
  })

  it('does not take markers for those seen from behind', () => {
    // a flat layout that its own mirror image looks like: an isosceles row
    const f = frameOver(layout, 500, 400, 12, 0)
    const flipped = { ...layout, normals: layout.normals.map((v) => -v) }
    expect(matchConstellation(known(layout), f.seen).kind).toBe('found')
    expect(matchConstellation(known(flipped), f.seen).kind).toBe('refused')
  })

  it('knows the nearest marker as a plain search does', () => {
    const c = known(layout)
    const r = seeded(2)
    for (let k = 0; k < 200; k++) {
      const [x, y, z] = [(r.next() - 0.5) * 1200, (r.next() - 0.5) * 1000, 20 * r.next()]
      let best = -1
      let least = 20
      layout.diameters.forEach((_, i) => {
        const d = Math.hypot(layout.positions[3 * i] - x, layout.positions[3 * i + 1] - y, layout.positions[3 * i + 2] - z)
        if (d <= least) [best, least] = [i, d]
      })
      expect(nearestKnown(c, x, y, z, 20)).toBe(best)
    }
  })
})

describe('the pose of one frame', () => {
  it('comes from three places, and better from many', () => {
    const r = seeded(14)
    const truth = multiply(
      Float64Array.of(0.36, 0.48, -0.8, 5, -0.8, 0.6, 0, 9, 0.48, 0.64, 0.6, 400, 0, 0, 0, 1),
      Float64Array.of(1, 0, 0, 0, 0, 1, 0, 0, 0, 0, 1, 0, 0, 0, 0, 1),
    )
    const p = Array.from({ length: 30 }, () => (r.next() - 0.5) * 200)
    const q = p.map((_, i) => (i % 3 === 0 ? transformPoint(truth, p[i], p[i + 1], p[i + 2]) : [])).flat()
    const start = posesOfTriangles(p, 0, 3, 7, q, 0, 3, 7)
    for (let i = 0; i < 16; i++) expect(start?.[i]).toBeCloseTo(truth[i], 9)
    expect(posesOfTriangles([0, 0, 0, 1, 0, 0, 2, 0, 0], 0, 1, 2, q, 0, 1, 2)).toBeUndefined()
    const noisy = q.map((v) => v + 0.01 * r.gauss())
    const fit = framePose(
      p,
      noisy,
      infoOf(noisy),
      Int32Array.from({ length: 10 }, (_, i) => i),
      truth,
    )
    expect(fit).toBeDefined()
    for (const i of [3, 7, 11]) expect(Math.abs((fit?.pose[i] ?? 0) - truth[i])).toBeLessThan(0.02)
    expect(framePose(p, noisy, infoOf(noisy), new Int32Array(10).fill(-1), truth)).toBeUndefined()
  })
})

describe('following the scanner', () => {
  const layout = strewn(seeded(11), 40, 400, 300)

  it('keeps its place along a path, and finds it again after a gap', () => {
    const rec = record(layout, 200, 3)
    const t = makeTracker({ sight })
    const states = rec.frames.map((f, i) => (i > 80 && i < 100 ? null : t.feed(f).state))
    expect(states[0]).toBe('first')
    expect(states.filter((s) => s === 'lost').length).toBeLessThan(4)
    expect(states.slice(100, 112)).toContain('regained')
    expect(t.known.length).toBeGreaterThanOrEqual(38)
    expect(t.known.length).toBeLessThanOrEqual(42)
    expect(widestAngle(t.known[0].seenFrom)).toBeGreaterThan(30)
  })

  it('puts nothing of an unknown scene into the map, and says why', () => {
    const rec = record(layout, 60, 4)
    const other = record(strewn(seeded(99), 40, 400, 300), 30, 5)
    const t = makeTracker({ sight })
    for (const f of rec.frames) t.feed(f)
    const before = JSON.stringify(t.known)
    for (const f of other.frames) {
      const r = t.feed(f)
      expect(['lost', 'few']).toContain(r.state)
    }
    expect(JSON.stringify(t.known)).toBe(before)
    expect(t.lost()).toBeGreaterThan(20)
    const back = t.feed(rec.frames[59])
    expect(['regained', 'few']).toContain(back.state)
  })

  it('is not put off by a frame of two hundred false markers', () => {
    const whole = record(layout, 700, 6)
    const rec = { ...whole, frames: whole.frames.slice(0, 60) }
    const t = makeTracker({ sight })
    for (const f of rec.frames.slice(0, 50)) t.feed(f)
    const r = seeded(1)
    const xyz = Float32Array.from([
      ...rec.frames[50].xyz,
      ...Array.from({ length: 200 }, () => [(r.next() - 0.5) * 280, (r.next() - 0.5) * 200, 350 + 100 * r.next()]).flat(),
    ])
    const crowded = t.feed({ time: 0, xyz, diameters: Float32Array.from({ length: xyz.length / 3 }, (_, i) => rec.frames[50].diameters[i] ?? 5) })
    const known40 = t.known.length
    expect(crowded.state).toBe('tracked')
    expect(crowded.fits).toBeGreaterThan(3)
    for (const f of rec.frames.slice(51)) expect(['tracked', 'few', 'regained']).toContain(t.feed(f).state)
    expect(t.known.length).toBeLessThanOrEqual(known40 + 2)
  })

  it('laid down for an hour, what it saw before stays', () => {
    const rec = record(layout, 200, 8)
    const t = makeTracker({ sight })
    for (const f of rec.frames) t.feed(f)
    const seen = t.kept().map((k) => k.time)
    expect(seen.length).toBeGreaterThan(150)
    const last = rec.frames[199]
    for (let i = 1; i <= 7200; i++) t.feed({ ...last, time: last.time + 500 * i })
    const left = new Set(t.kept().map((k) => k.time))
    expect(seen.filter((time) => left.has(time)).length).toBe(seen.length)
    // and that time went by is known up to the end, so that a marker that moves is told when
    expect(Math.max(...left)).toBeGreaterThan(last.time + 0.9 * 500 * 7200)
    expect(left.size).toBeLessThanOrEqual(600)
  })

  it('knows where the scanner stands', () => {
    const rec = record(layout, 40, 7)
    const t = makeTracker({ sight })
    const poses = rec.frames.map((f) => t.feed(f).pose)
    // relative to the first frame, whose axes the map has
    const expected = multiply(rec.poses[39], invertRigid(rec.poses[0]))
    for (const i of [3, 7, 11]) expect(Math.abs(poses[39][i] - expected[i])).toBeLessThan(0.2)
    expect(pathAt(0)).toHaveLength(16)
  })
})
