import { describe, expect, it } from '@jest/globals'
import { identity } from '../src/base/mat4.ts'
import { lookingAt, seeMarkers } from '../src/scanner/seemarkers.ts'
import { STEEPEST_MARKER } from '../src/scanner/spec.ts'
import { MATERIALS } from '../src/scanner/scene.ts'
import { boxSolid } from '../src/shape/solids.ts'
import { buildBvh } from '../src/space/bvh.ts'
import { SPEC, STEREO } from './marking.ts'

const above = lookingAt([0, 0, 400], [0, 0, 0])
const one = (x: number, y: number, z: number, n = [0, 0, 1], d = 6) => ({ positions: [x, y, z], normals: n, diameters: [d] })
const see = (stuck: ReturnType<typeof one>, o: Partial<Parameters<typeof seeMarkers>[5]> = {}, things: Parameters<typeof seeMarkers>[4] = []) =>
  seeMarkers(SPEC, STEREO, STEREO, stuck, things, { pose: above, noise: 0, dropouts: 0, strays: 0, seed: 1, ...o })

describe('what a pair of cameras makes of markers', () => {
  it('is their place before it, exactly so without noise', () => {
    const s = see(one(30, -20, 5))
    expect([...s.truth]).toEqual([0])
    // the left camera looks straight down: z is the distance along its axis
    expect(Math.hypot(...s.xyz)).toBeCloseTo(Math.hypot(30, 20, 395), 3)
    expect(s.diameters[0]).toBeCloseTo(6, 6)
  })

  it('nothing where it is too steep, turned away, too small, too near, too far, or outside', () => {
    const tilted = (degrees: number) => {
      const a = (degrees * Math.PI) / 180
      return one(0, 0, 0, [0, Math.sin(a), Math.cos(a)])
    }
    expect(see(tilted(STEEPEST_MARKER - 12)).truth).toHaveLength(1)
    expect(see(tilted(STEEPEST_MARKER + 5)).truth).toHaveLength(0)
    expect(see(one(0, 0, 0, [0, 0, -1])).truth).toHaveLength(0)
    expect(see(one(0, 0, 0, [0, 0, 1], 1)).truth).toHaveLength(0)
    expect(see(one(0, 0, 200)).truth).toHaveLength(0)
    expect(see(one(0, 0, -200)).truth).toHaveLength(0)
    expect(see(one(260, 0, 0)).truth).toHaveLength(0)
  })

  it('nothing where a body stands between', () => {
    const mesh = boxSolid(60, 60, 40)
    const box = { kind: 'mesh' as const, mesh, bvh: buildBvh(mesh), pose: identity(), material: MATERIALS.matte }
    expect(see(one(0, 0, 0), {}, [box]).truth).toHaveLength(0)
    expect(see(one(0, 0, 40), {}, [box]).truth).toHaveLength(1)
    expect(see(one(80, 0, 0), {}, [box]).truth).toHaveLength(1)
  })

  it('scatters with the noise, more along than across, and more for narrow ellipses', () => {
    const spread = (d: number) => {
      const x: number[] = []
      const z: number[] = []
      for (let k = 0; k < 400; k++) {
        const s = see(one(0, 0, 0, [0, 0, 1], d), { noise: 0.03, seed: k })
        x.push(s.xyz[0])
        z.push(s.xyz[2])
      }
      const sd = (a: number[]) => {
        const m = a.reduce((p, q) => p + q) / a.length
        return Math.sqrt(a.reduce((p, q) => p + (q - m) ** 2, 0) / a.length)
      }
      return [sd(x), sd(z)]
    }
    const [x6, z6] = spread(6)
    const [x3] = spread(3)
    expect(z6 / x6).toBeGreaterThan(2)
    // half as wide: the square root of two worse
    expect(x3 / x6).toBeCloseTo(Math.SQRT2, 0)
  })

  it('misses some, takes strays for some, and does the same again for the same seed', () => {
    const many = { positions: [] as number[], normals: [] as number[], diameters: [] as number[] }
    for (let i = 0; i < 25; i++) {
      many.positions.push((i % 5) * 30 - 60, Math.floor(i / 5) * 25 - 50, 0)
      many.normals.push(0, 0, 1)
      many.diameters.push(6)
    }
    let [seen, strays] = [0, 0]
    for (let k = 0; k < 100; k++) {
      const s = see(many, { dropouts: 0.2, strays: 1.5, seed: k })
      seen += s.truth.filter((t) => t >= 0).length
      strays += s.truth.filter((t) => t < 0).length
    }
    expect(seen / 2500).toBeCloseTo(0.8, 1)
    expect(strays / 100).toBeGreaterThan(0.7)
    expect(strays / 100).toBeLessThan(1.6)
    expect(see(many, { noise: 0.02, seed: 5 }).xyz).toEqual(see(many, { noise: 0.02, seed: 5 }).xyz)
  })

  it('is off by what the believed optics are off', () => {
    const wrong = { ...STEREO, pose: STEREO.pose.map((v, i) => (i === 3 ? 1.001 * v : v)) }
    const s = seeMarkers(SPEC, STEREO, wrong, one(0, 0, 0), [], { pose: above, noise: 0, dropouts: 0, strays: 0, seed: 1 })
    // a base line one per mille too long makes every distance so
    expect(s.xyz[2] / see(one(0, 0, 0)).xyz[2]).toBeCloseTo(1.001, 4)
  })

  it('looks where it is told to, upright', () => {
    const m = lookingAt([100, 0, 100], [0, 0, 0])
    expect([m[2], m[6], m[10]].map((v) => Number(v.toFixed(6)))).toEqual([-Math.SQRT1_2, 0, -Math.SQRT1_2].map((v) => Number(v.toFixed(6))))
    // image down is towards the floor
    expect(m[9]).toBeLessThan(0)
    expect([m[3], m[7], m[11]]).toEqual([100, 0, 100])
  })
})
