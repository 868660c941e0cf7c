import { describe, expect, it } from '@jest/globals'
import { deflateSync } from 'fflate'
import { identity, invertRigid, multiply, rotateVector, transformPoint, type Mat4 } from '../src/base/mat4.ts'
import { quietContext } from '../src/base/run.ts'
import { encodeFrame, roundFrame } from '../src/capture/framecode.ts'
import { floorOfMarkers, floorOfTable } from '../src/capture/floor.ts'
import { growingSurface } from '../src/capture/surface.ts'
import { bytesSource } from '../src/formats/source.ts'
import { recordingHead, recordOf } from '../src/formats/recording.ts'
import { makeMarkers } from '../src/markers/markers.ts'
import type { Item } from '../src/operations/operation.ts'
import { runOperation } from '../src/operations/registry.ts'
import { MATERIALS } from '../src/scanner/scene.ts'
import { lookingAt, seeMarkers } from '../src/scanner/seemarkers.ts'
import { takeShot } from '../src/scanner/shot.ts'
import { designedStereo, type ScannerSpec } from '../src/scanner/spec.ts'
import type { Mesh } from '../src/shape/mesh.ts'
import type { Points } from '../src/shape/points.ts'
import { buildBvh } from '../src/space/bvh.ts'
import { boxMesh } from './help.ts'
import { at, roof, tray } from './tray.ts'

const optics = designedStereo({ width: 640, height: 480, focal: 700, baseline: 150, crossing: 450 })
const range = { near: 300, ideal: 450, far: 700 }
const spec = { design: optics, range } as unknown as ScannerSpec
const NOISE = 0.08
/** mm, of the table's upper side, on which the tray stands */
const TABLE = -8
const table = at(boxMesh(400, 300, 10), -200, -150, TABLE - 10)
const stuck = {
  positions: [-110, -70, TABLE, 95, -75, TABLE, 120, 20, 6, 60, 85, TABLE, -40, 80, 12, -115, 30, TABLE, 0, -95, TABLE, -80, -85, 20],
  normals: Array.from({ length: 24 }, (_, i) => (i % 3 === 2 ? 1 : 0)),
  diameters: Array<number>(8).fill(6),
}
const map = makeMarkers({ ...stuck, covariance: Float64Array.from({ length: 48 }, (_, i) => ([0, 3, 5].includes(i % 6) ? 1e-5 : 0)) })
const hand = (degrees: number): Mat4 => {
  const [a, e] = [degrees, 55].map((d) => (d * Math.PI) / 180)
  return lookingAt([450 * Math.cos(e) * Math.cos(a), 450 * Math.cos(e) * Math.sin(a), 450 * Math.sin(e)], [0, 0, 0])
}
const poses = Array.from({ length: 16 }, (_, k) => hand(2 * k))
const join = (parts: Uint8Array[]) => Uint8Array.from(parts.flatMap((p) => [...p]))
const step = NOISE / 4
function recorded(meshes: Mesh[]): Uint8Array {
  const things = meshes.map((mesh) => ({ kind: 'mesh' as const, mesh, bvh: buildBvh(mesh, 'median'), pose: identity(), material: MATERIALS.matte }))
  const frames = poses.map((pose, k) => {
    const { xyz, intensity } = takeShot(spec, optics, optics, things, { pose, pattern: 'area', exposure: 1, stride: 7, noise: 0.03, seed: 7 + k })
    const seen = seeMarkers(spec, optics, optics, stuck, [], { pose, seed: k + 3, strays: 0, dropouts: 0 })
    const markers = [...seen.diameters].flatMap((d, i) => [seen.xyz[3 * i], seen.xyz[3 * i + 1], seen.xyz[3 * i + 2], d])
    return recordOf(60 * k, markers, deflateSync(encodeFrame({ xyz: roundFrame(xyz, step), intensity }, step)))
  })
  return join([recordingHead({ scanner: 'Birch', calibration: '', optics, range, noise: NOISE }), ...frames])
}
const onTable = recorded([tray, table])
const solve = (bytes: Uint8Array, params: object, maps: Item[] = [{ name: 'map', data: map, pose: identity() }]) =>
  runOperation('solve-recording', { file: [{ kind: 'file', source: bytesSource('a.frames', bytes) }], map: maps }, { spacing: 2, ...params }, quietContext)
type Solved = Awaited<ReturnType<typeof solve>>
const value = ({ evidence }: Solved, id: string) => Number(evidence.quantities.find((q) => q.id === id)?.value)
const pointsOf = ({ outputs }: Solved) => (outputs['pass'][0].data as Points).xyz
/** heights of the points of a pass, in the world; axes: of the pass there */
const heights = (s: Solved, axes: Mat4 = identity()) => {
  const xyz = pointsOf(s)
  return Array.from({ length: xyz.length / 3 }, (_, i) => transformPoint(axes, xyz[3 * i], xyz[3 * i + 1], xyz[3 * i + 2])[2])
}
const beneath = (h: number[], limit: number) => h.filter((z) => z < limit).length

describe('the floor of a recording', () => {
  it('by the table that was seen, and by markers on it: the same points go, and what stands on it stays', async () => {
    const [without, seen, named] = await Promise.all(
      [{}, { floor: 'table' }, { floor: 'markers', floorMarkers: ['1', '2', '4', '6', '7'] }].map((p) => solve(onTable, { by: 'markers', most: 200, ...p })),
    )
    const all = value(without, 'points-measured')
    for (const s of [seen, named]) {
      // each measured point is beneath it or counts
      expect(value(s, 'points-measured') + value(s, 'beneath-the-floor')).toBe(all)
      // noise of 0.03 px is some 0.03 mm: the plane is known to a few hundredths over the whole table
      const h = heights(s)
      expect(Math.min(...h)).toBeGreaterThan(TABLE + 0.5 - 0.03)
      const kept = heights(without)
      expect(h.length).toBeGreaterThanOrEqual(kept.length - beneath(kept, TABLE + 0.53))
      expect(h.length).toBeLessThanOrEqual(kept.length - beneath(kept, TABLE + 0.47))
      // most of what was seen is table
      expect(h.length).toBeLessThan(0.6 * kept.length)
    }
    expect(value(seen, 'floor-flat')).toBeLessThan(0.03)
    expect(value(named, 'floor-flat')).toBeLessThan(1e-3)
  })
  it('by shape, where the axes are those of the first frame; raised or lowered by as much as was asked', async () => {
    const upright = Float64Array.of(1, 0, 0, 0, 0, -1, 0, 0, 0, 0, -1, 0, 0, 0, 0, 1)
    const axes = multiply(poses[0], invertRigid(upright))
    for (const raise of [0.5, -3]) {
      const h = heights(await solve(onTable, { by: 'shape', floor: 'table', raise }, []), axes)
      // frames held by shape drift by some hundredths
      if (raise > 0) expect(Math.abs(Math.min(...h) - (TABLE + raise))).toBeLessThan(0.12)
      else expect(beneath(h, TABLE + 0.3)).toBeGreaterThan(h.length / 2)
    }
  })
  it('is not guessed: no table was seen, or nothing but a table', async () => {
    // a bar on its edge: beneath each of its faces lies the other
    await expect(solve(recorded([roof(90, 60, 20, 0, 0)]), { by: 'markers', floor: 'table' })).rejects.toMatchObject({
      code: 'no-floor',
      remedy: expect.any(String),
    })
    await expect(solve(recorded([table]), { by: 'markers', floor: 'table' })).rejects.toMatchObject({ code: 'nothing-above' })
    await expect(solve(onTable, { by: 'shape', floor: 'markers', floorMarkers: ['1', '2', '4'] })).rejects.toMatchObject({ code: 'missing-input' })
    await expect(solve(onTable, { by: 'markers', floor: 'markers', floorMarkers: ['1', '2'] })).rejects.toMatchObject({ code: 'few-markers' })
  })
})

describe('the plane of a table in a surface', () => {
  /** places of a level table of 300 x 200 mm with a block of 60 x 40 x 30 mm on it, as seen from above, moved; strays: deep under it */
  const grown = (m: Mat4, strays: number, wave = 0, edge = 0) => {
    const s = growingSurface(2, 0.05)
    const list: number[] = []
    const put = (x: number, y: number, z: number) => list.push(x, y, z)
    for (let x = -150; x < 150; x += 0.7)
      for (let y = -100; y < 100; y += 0.7) put(x, y, Math.abs(x) < 30 && Math.abs(y) < 20 ? 30 : wave * Math.sin(x / 20) * Math.cos(y / 30))
    for (let z = 0; z < 30; z += 0.7) {
      for (let x = -30; x < 30; x += 0.7) put(x, -20, z)
      for (let y = -20; y < 20; y += 0.7) put(30, y, z)
    }
    for (let z = -edge; z < 0; z += 0.7) {
      for (let x = -150; x < 150; x += 0.7) put(x, -100, z)
      for (let y = -100; y < 100; y += 0.7) put(150, y, z)
    }
    for (let k = 0; k < strays; k++) for (let i = 0; i < 4; i++) put(-100 + 3 * k, 40 + 0.1 * i, -60)
    // a scanner that stands above and to the right of it
    const from = [200, -250, 400]
    const xyz = Float32Array.from(list, (v, i) => v - from[i % 3])
    s.addFrame(xyz, multiply(m, Float64Array.of(1, 0, 0, from[0], 0, 1, 0, from[1], 0, 0, 1, from[2], 0, 0, 0, 1)), 0)
    return s
  }
  const turned = (x: number, y: number, z: number, tilt: number): Mat4 => {
    const [c, s] = [Math.cos(tilt), Math.sin(tilt)]
    return Float64Array.of(1, 0, 0, x, 0, c, -s, y, 0, s, c, z, 0, 0, 0, 1)
  }
  it.each<[string, Mat4, number, number, number, number]>([
    ['level', identity(), 0, 0, 0.01, 0],
    ['whose edge is seen', turned(10, 20, 30, 0.3), 0, 0, 0.01, 20],
    ['upright', turned(0, 0, 0, Math.PI / 2), 0, 0, 0.01, 0],
    ['askew, two metres from the middle', turned(1200, -1500, 700, 0.7), 0, 0, 0.05, 0],
    ['over a few strays', turned(10, 20, 30, 0.3), 12, 0, 0.01, 0],
    ['that is not flat', turned(10, 20, 30, 0.3), 0, 0.15, 0.1, 0],
  ])('%s', (_, m, strays, wave, off, edge) => {
    const f = floorOfTable(grown(m, strays, wave, edge))
    const up = rotateVector(m, 0, 0, 1)
    expect(f.normal[0] * up[0] + f.normal[1] * up[1] + f.normal[2] * up[2]).toBeGreaterThan(0.999999)
    // at the corners as well
    for (const [x, y] of [
      [0, 0],
      [150, 100],
      [-150, 100],
    ]) {
      const p = transformPoint(m, x, y, 0)
      expect(Math.abs(f.normal[0] * p[0] + f.normal[1] * p[1] + f.normal[2] * p[2] - f.offset)).toBeLessThan(off)
    }
  })
})

describe('the plane of markers', () => {
  it.each<[string, string[], string]>([
    ['that are not there', ['1', '2', '99'], 'unknown-markers'],
    ['of which there are two, one of them twice', ['1', '2', '2'], 'few-markers'],
    ['of which one sticks elsewhere', ['1', '2', '4', '3'], 'not-flat'],
  ])('%s is refused in words', (_, ids, code) => {
    expect(() => floorOfMarkers(map, ids)).toThrow(expect.objectContaining({ code, remedy: expect.any(String) }))
  })
  it('on one line is refused, and looks where they face, whatever their order', () => {
    const line = makeMarkers({ positions: [0, 0, 0, 50, 0, 0.2, 100, 0.5, 0], diameters: [6, 6, 6] })
    expect(() => floorOfMarkers(line, ['1', '2', '3'])).toThrow(expect.objectContaining({ code: 'on-a-line' }))
    for (const ids of [
      ['1', '2', '4'],
      ['4', '2', '1'],
    ]) {
      const f = floorOfMarkers(map, ids)
      expect([f.normal[2] > 0.9999, Math.abs(f.offset - TABLE) < 1e-4]).toEqual([true, true])
    }
  })
})
