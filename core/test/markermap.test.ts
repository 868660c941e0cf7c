import { describe, expect, it } from '@jest/globals'
import { fitRigid } from '../src/align/pairs.ts'
import { invertRigid, poseDifference, transformPoint } from '../src/base/mat4.ts'
import { seeded } from '../src/base/random.ts'
import { quietContext } from '../src/base/run.ts'
import { adjustMarkers, type Sightings } from '../src/markers/adjust.ts'
import { compareMarkers } from '../src/markers/compare.ts'
import { levelled, turned } from '../src/markers/levelled.ts'
import { mapFrames } from '../src/markers/mapframes.ts'
import { makeMarkers, worstUncertainty } from '../src/markers/markers.ts'
import { evenSight, invertSymmetric3, quadratic3, stereoSight } from '../src/markers/sight.ts'
import { fixtureJson, oakError } from './help.ts'
import { pairUp, record, STEREO, strewn } from './marking.ts'
import { jacobiEigen } from '../src/base/eigen.ts'

const threw = (f: () => unknown) => oakError(Promise.resolve().then(f))

describe('the joint adjustment of markers', () => {
  // the same problem solved by SciPy (least_squares, trf) and NumPy, see fixtures/markers/NOTICE
  const ref = fixtureJson('markers/adjust_scipy.json')
  const sightings: Sightings = { frame: Int32Array.from(ref.frame), marker: Int32Array.from(ref.marker), xyz: Float64Array.from(ref.xyz) }
  const solve = (shift = 0) => {
    const r = seeded(3)
    return adjustMarkers({
      sightings,
      poses: ref.startPoses.map((p: number[]) => Float64Array.from(p)),
      positions: Float64Array.from(ref.startPositions, (v: number) => v + shift * r.gauss()),
      huber: 1e9,
      reject: 1e9,
      iterations: 30,
    })
  }

  it('gives the distances, the noise and the uncertainties of SciPy and NumPy', () => {
    const r = solve()
    const n = r.positions.length / 3
    for (let i = 0; i < n; i++)
      for (let j = 0; j < n; j++) {
        const d = Math.hypot(...[0, 1, 2].map((k) => r.positions[3 * i + k] - r.positions[3 * j + k]))
        expect(Math.abs(d - ref.distances[n * i + j])).toBeLessThan(1e-6)
      }
    expect(r.sigma).toBeCloseTo(ref.sigma, 7)
    for (let i = 0; i < n; i++) {
      const c = r.covariance.subarray(6 * i, 6 * i + 6)
      const { values } = jacobiEigen([c[0], c[1], c[2], c[1], c[3], c[4], c[2], c[4], c[5]], 3)
      ref.uncertainty[i].forEach((u: number, k: number) => expect(Math.abs(Math.sqrt(values[k]) / u - 1)).toBeLessThan(1e-4))
      expect(worstUncertainty(r.covariance, i)).toBeCloseTo(ref.uncertainty[i][2], 6)
    }
  })

  it('comes to the same from a start that is half a millimetre off', () => {
    const [a, b] = [solve(), solve(0.5)]
    expect(fitRigid(a.positions, b.positions).max).toBeLessThan(1e-6)
    expect(b.sigma).toBeCloseTo(a.sigma, 9)
  })

  it('leaves wild sightings out and says how many', () => {
    const wild = { ...sightings, xyz: sightings.xyz.slice() }
    for (const i of [4, 17, 33]) wild.xyz[3 * i] += 5
    const start = { poses: ref.startPoses.map((p: number[]) => Float64Array.from(p)), positions: Float64Array.from(ref.startPositions) }
    const r = adjustMarkers({ sightings: wild, ...start })
    expect(r.rejected).toBe(3)
    const clean = solve()
    // what is left differs by what three sightings of 60 carried
    expect(fitRigid(r.positions, clean.positions).max).toBeLessThan(0.02)
  })

  it('refuses markers that hang on nothing', async () => {
    const three = { frame: Int32Array.of(0, 0, 1), marker: Int32Array.of(0, 1, 2), xyz: Float64Array.of(0, 0, 400, 50, 0, 400, 0, 50, 400) }
    const poses = [0, 1].map(() => Float64Array.of(1, 0, 0, 0, 0, 1, 0, 0, 0, 0, 1, 400, 0, 0, 0, 1))
    expect(
      (
        await threw(() =>
          adjustMarkers({
            sightings: { ...three, frame: Int32Array.of(), marker: Int32Array.of(), xyz: Float64Array.of() },
            poses,
            positions: Float64Array.of(),
          }),
        )
      ).code,
    ).toBe('too-few-markers')
    // all on one point: the six motions are not six
    const one = adjustMarkers.bind(null, { sightings: three, poses, positions: new Float64Array(9) })
    expect((await threw(one)).code).toBe('not-determined')
  })
})

describe('what a sighting knows', () => {
  it('is as the noise of simulated sightings: better across than along', () => {
    const sight = stereoSight(STEREO)
    const info = new Float64Array(6)
    sight(20, 10, 400, info)
    const c = new Float64Array(6)
    invertSymmetric3(info, c)
    // common formulae: z / f across, z^2 / (f b) sqrt 2 along (Hartley and Zisserman 2004)
    expect(Math.sqrt(c[0])).toBeGreaterThan(0.5 * (400 / 1050 / Math.SQRT2))
    expect(Math.sqrt(c[0])).toBeLessThan(1.6 * (400 / 1050))
    expect(Math.sqrt(c[5]) / ((400 * 400 * Math.SQRT2) / (1050 * 140))).toBeCloseTo(1, 0)
    expect(quadratic3(info, 1, 0, 0)).toBeCloseTo(info[0], 9)
    evenSight(1, 2, 3, info)
    expect([...info]).toEqual([1, 0, 0, 1, 0, 1])
  })
})

describe('a map from a recording', () => {
  const layout = strewn(seeded(1), 40, 400, 300)
  const rec = record(layout, 220, 1)
  const map = mapFrames(rec.frames, { stereo: STEREO, scale: 2e-5 }, quietContext)

  it('holds every marker and no stray, to some micrometres, and says so', () => {
    expect(map.markers.ids).toHaveLength(40)
    const pairs = pairUp(map.markers, layout, invertRigid(rec.poses[0]))
    expect(new Set(pairs.map((p) => p.true)).size).toBe(40)
    const fit = fitRigid(
      pairs.flatMap((p) => [...map.markers.positions.subarray(3 * p.map, 3 * p.map + 3)]),
      pairs.flatMap((p) => layout.positions.slice(3 * p.true, 3 * p.true + 3)),
    )
    expect(fit.rms).toBeLessThan(0.008)
    // honest: normalised errors around one
    let nees = 0
    for (const p of pairs) {
      const q = transformPoint(fit.pose, ...(map.markers.positions.subarray(3 * p.map, 3 * p.map + 3) as unknown as [number, number, number]))
      const c = new Float64Array(6)
      const turnedMap = turned(map.markers, fit.pose)
      invertSymmetric3(turnedMap.covariance, c, 6 * p.map)
      nees += quadratic3(c, ...(q.map((v, k) => v - layout.positions[3 * p.true + k]) as [number, number, number]))
    }
    const rms = Math.sqrt(nees / (3 * pairs.length - 6))
    expect(rms).toBeGreaterThan(0.7)
    expect(rms).toBeLessThan(1.4)
    expect(map.moved).toEqual([])
    expect(map.missing).toEqual([])
    expect(map.markers.scale).toBe(2e-5)
    expect(map.sigma).toBeGreaterThan(0.01)
    expect(map.sigma).toBeLessThan(0.03)
  })

  it('is the same again, to the last bit', () => {
    const again = mapFrames(rec.frames, { stereo: STEREO, scale: 2e-5 }, quietContext)
    expect(again.markers.positions).toEqual(map.markers.positions)
  })

  it('names a marker that moved by 0.3 mm on the way, and no other', () => {
    const l = { ...layout, positions: layout.positions.slice() }
    const moved = record(l, 220, 2, {
      change: (f) => {
        if (f === 120) l.positions[3 * 7] += 0.3
      },
    })
    const m = mapFrames(moved.frames, { stereo: STEREO }, quietContext)
    expect(m.moved).toHaveLength(1)
    const [one] = m.moved
    expect(Math.abs(one.distance - 0.3)).toBeLessThan(3.5 * one.uncertainty)
    const at = pairUp(m.markers, l, invertRigid(moved.poses[0])).find((p) => p.true === 7)
    expect(m.markers.ids[at?.map ?? -1]).toBe(one.id)
    // the map holds its new place
    const pairs = pairUp(m.markers, l, invertRigid(moved.poses[0]))
    const fit = fitRigid(
      pairs.flatMap((p) => [...m.markers.positions.subarray(3 * p.map, 3 * p.map + 3)]),
      pairs.flatMap((p) => l.positions.slice(3 * p.true, 3 * p.true + 3)),
    )
    expect(fit.max).toBeLessThan(0.015)
  })

  it('says how far only when it is right, however few frames saw the new place', () => {
    // four sightings of the new place with one of the old once made 0.24 of 0.3 mm, stated to 0.006
    const named: number[] = []
    for (const [which, looks] of [
      [2, [8, 12, 16, 50]],
      [11, [12, 16]],
    ] as const) {
      const l = { ...layout, positions: layout.positions.slice() }
      const { frames } = record(l, 170, 2, {
        change: (f) => {
          if (f === 120) l.positions[3 * which] += 0.3
        },
      })
      for (const n of looks) {
        const { moved } = mapFrames(frames.slice(0, 120 + n), { stereo: STEREO }, quietContext)
        for (const m of moved) expect(Math.abs(m.distance - 0.3)).toBeLessThan(3.5 * m.uncertainty)
        if (moved.length) named.push(n)
      }
    }
    expect(named).toEqual([16, 50, 16])
  })

  it('finds both places of a marker that was knocked against twice', () => {
    const l = { ...layout, positions: layout.positions.slice() }
    const twice = record(l, 240, 6, {
      change: (f) => {
        if (f === 80) l.positions[3 * 7] += 0.3
        if (f === 160) l.positions[3 * 7 + 1] += 0.8
      },
    })
    const m = mapFrames(twice.frames, { stereo: STEREO }, quietContext)
    expect(m.moved.map((c) => c.id)).toEqual([m.moved[0].id, m.moved[0].id])
    const [first, second] = m.moved
    expect(Math.abs(first.distance - 0.3)).toBeLessThan(3.5 * first.uncertainty)
    expect(Math.abs(second.distance - 0.8)).toBeLessThan(3.5 * second.uncertainty)
    const pairs = pairUp(m.markers, l, invertRigid(twice.poses[0]))
    expect(pairs).toHaveLength(40)
    const fit = fitRigid(
      pairs.flatMap((p) => [...m.markers.positions.subarray(3 * p.map, 3 * p.map + 3)]),
      pairs.flatMap((p) => l.positions.slice(3 * p.true, 3 * p.true + 3)),
    )
    expect(fit.max).toBeLessThan(0.015)
  })

  it('tells a marker that was taken away, and one that was stuck again elsewhere', () => {
    const l = { ...layout, positions: layout.positions.slice(), normals: layout.normals.slice() }
    const gone = record(l, 260, 3, {
      change: (f) => {
        // turned over: it shows its back
        if (f === 110) l.normals[3 * 12 + 2] = -1
        if (f === 110) l.positions[3 * 20] += 9
      },
    })
    const m = mapFrames(gone.frames, { stereo: STEREO, range: { near: 250, far: 550 } }, quietContext)
    expect(m.missing).toHaveLength(1)
    const again = m.moved.filter((c) => c.distance > 5)
    expect(again).toHaveLength(1)
    expect(again[0].distance).toBeCloseTo(9, 1)
    expect(m.markers.ids).toHaveLength(39)
  })

  it('says that the part was nudged when several move together', () => {
    const l = { ...layout, positions: layout.positions.slice() }
    const part = layout.diameters.map((_, i) => i).filter((i) => Math.hypot(layout.positions[3 * i], layout.positions[3 * i + 1]) < 80)
    expect(part.length).toBeGreaterThan(3)
    const nudged = record(l, 260, 4, {
      change: (f) => {
        if (f === 130) for (const i of part) l.positions[3 * i + 1] += 0.6
      },
    })
    const m = mapFrames(nudged.frames, { stereo: STEREO }, quietContext)
    expect(m.moved.length).toBe(part.length)
    for (const c of m.moved) expect(c.together).toHaveLength(part.length)
  })

  it('goes on from an earlier map in its axes, and names what moved in between', () => {
    const l = { ...layout, positions: layout.positions.slice() }
    l.positions[3 * 5 + 1] += 0.25
    const later = record(l, 220, 5)
    const m = mapFrames(later.frames, { stereo: STEREO, known: map.markers }, quietContext)
    expect(m.moved.map((c) => c.id)).toHaveLength(1)
    expect(m.moved[0].distance).toBeCloseTo(0.25, 1)
    const own = map.markers.ids.flatMap((id, i) => {
      const j = m.markers.ids.indexOf(id)
      return id === m.moved[0].id || j < 0 ? [] : [[i, j]]
    })
    expect(own.length).toBe(39)
    for (const [i, j] of own) expect(Math.hypot(...[0, 1, 2].map((k) => map.markers.positions[3 * i + k] - m.markers.positions[3 * j + k]))).toBeLessThan(0.02)
  })

  it('keeps markers of the earlier map that this recording did not show', () => {
    const half = { positions: [] as number[], normals: [] as number[], diameters: [] as number[] }
    layout.diameters.forEach((d, i) => {
      if (layout.positions[3 * i] > 60) return
      half.positions.push(...layout.positions.slice(3 * i, 3 * i + 3))
      half.normals.push(0, 0, 1)
      half.diameters.push(d)
    })
    const m = mapFrames(record(half, 160, 6).frames, { stereo: STEREO, known: map.markers }, quietContext)
    expect(m.markers.ids).toHaveLength(40)
    expect(m.kept).toHaveLength(40 - half.diameters.length)
  })

  it('names a marker that was added since, with an uncertainty of its own', () => {
    const more = { positions: [...layout.positions, 5, -3, 0], normals: [...layout.normals, 0, 0, 1], diameters: [...layout.diameters, 6] }
    // nothing else is in the way
    const near = layout.diameters.some((_, i) => Math.hypot(layout.positions[3 * i] - 5, layout.positions[3 * i + 1] + 3) < 12)
    expect(near).toBe(false)
    const m = mapFrames(record(more, 200, 12).frames, { stereo: STEREO, known: map.markers }, quietContext)
    expect(m.added).toHaveLength(1)
    expect(m.moved).toEqual([])
    const at = m.markers.ids.indexOf(m.added[0])
    expect(worstUncertainty(m.markers.covariance, at)).toBeLessThan(0.01)
  })

  it('takes the names of the plan where markers sit as planned', () => {
    const r = seeded(9)
    const plan = makeMarkers({
      ids: layout.diameters.map((_, i) => `P${i}`),
      positions: layout.positions.map((v, i) => v + (i % 3 === 2 ? 0 : 1.2 * r.gauss())),
      diameters: layout.diameters,
      normals: layout.normals,
    })
    const m = mapFrames(rec.frames, { stereo: STEREO, plan }, quietContext)
    expect(m.planned?.absent).toEqual([])
    const pairs = pairUp(m.markers, layout, invertRigid(rec.poses[0]))
    for (const p of pairs) expect(m.markers.ids[p.map]).toBe(`P${p.true}`)
  })

  it('refuses recordings that make no map, with what to do', async () => {
    expect((await threw(() => mapFrames([], { stereo: STEREO }, quietContext))).code).toBe('no-frames')
    const three = record({ positions: [0, 0, 0, 60, 0, 0, 0, 50, 0], normals: [0, 0, 1, 0, 0, 1, 0, 0, 1], diameters: [6, 6, 6] }, 30, 7)
    const e = await threw(() => mapFrames(three.frames, { stereo: STEREO }, quietContext))
    expect(e.code).toBe('too-few-markers')
    expect(e.remedy).toMatch(/four markers/)
    const stopped = { ...quietContext, signal: { aborted: true } }
    expect((await threw(() => mapFrames(rec.frames, { stereo: STEREO }, stopped))).code).toBe('cancelled')
  })

  it('stands as a person would hold it after levelling', () => {
    const { markers, pose } = levelled(map.markers)
    let up = 0
    for (let i = 0; i < 40; i++) up += markers.normals[3 * i + 2] / 40
    expect(up).toBeGreaterThan(0.7)
    expect(Math.max(...Array.from({ length: 40 }, (_, i) => Math.abs(markers.positions[3 * i + 2])))).toBeLessThan(40)
    const back = turned(markers, invertRigid(pose))
    expect(Math.abs(back.positions[5] - map.markers.positions[5])).toBeLessThan(1e-3)
    expect(worstUncertainty(markers.covariance, 3)).toBeCloseTo(worstUncertainty(map.markers.covariance, 3), 6)
  })
})

describe('two sets of markers', () => {
  const r = seeded(21)
  const layout = strewn(r, 24, 300, 240)
  const set = (positions: number[], sigma = 0.004) =>
    makeMarkers({
      positions,
      diameters: positions.filter((_, i) => i % 3 === 0).map((_, i) => layout.diameters[i] ?? 6),
      covariance: positions.filter((_, i) => i % 3 === 0).flatMap(() => [sigma ** 2, 0, 0, sigma ** 2, 0, sigma ** 2]),
    })
  const pose = Float64Array.of(0.36, 0.48, -0.8, 12, -0.8, 0.6, 0, -40, 0.48, 0.64, 0.6, 300, 0, 0, 0, 1)
  const moved = layout.positions.map((_, i, p) => (i % 3 === 0 ? transformPoint(pose, p[i], p[i + 1], p[i + 2]) : [])).flat()
  const shaken = moved.map((v) => v + 0.004 * r.gauss())

  it('come together by what they share, whatever their pose', () => {
    const d = compareMarkers(set(shaken), set(layout.positions))
    expect(d.same).toHaveLength(24)
    expect(d.moved).toEqual([])
    expect(poseDifference(d.pose, pose, [-150, -120, 0, 150, 120, 30]).max).toBeLessThan(0.02)
  })

  it('name a marker that moved, with how far', () => {
    const b = layout.positions.slice()
    b[3 * 9] += 0.3
    const d = compareMarkers(set(shaken), set(b))
    expect(d.moved.map((m) => m.b)).toEqual([9])
    expect(d.moved[0].distance).toBeCloseTo(0.3, 1)
  })

  it('share as few as five of many, and say what only one has', () => {
    const others = strewn(seeded(77), 12, 300, 240)
    const a = [...shaken.slice(0, 15), ...others.positions.map((v, i) => v + (i % 3 === 2 ? 300 : 0))]
    const d = compareMarkers(set(a), set(layout.positions))
    expect(d.same.length).toBeGreaterThanOrEqual(5)
    expect(d.same.every((p) => p.a === p.b && p.a < 5)).toBe(true)
    expect(d.added.length + d.moved.length).toBeLessThanOrEqual(19)
  })

  it('refuse what agrees by chance only, what is symmetric, and what lies on a line', async () => {
    const other = strewn(seeded(50), 24, 300, 240)
    expect((await threw(() => compareMarkers(set(other.positions), set(layout.positions)))).code).toBe('no-match')
    const square = [0, 0, 0, 60, 0, 0, 60, 60, 0, 0, 60, 0]
    expect((await threw(() => compareMarkers(set(square), set(square)))).code).toBe('ambiguous')
    const line = [0, 0, 0, 50, 0, 0, 120, 0, 0, 210, 0, 0, 320, 0, 0]
    expect((await threw(() => compareMarkers(set(line), set(line)))).code).toBe('on-a-line')
  })
})
