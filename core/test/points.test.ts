import { describe, expect, test } from '@jest/globals'
// @ts-expect-error a tool of the repository, plain JavaScript
import { untidy } from '../../tools/tidy.mjs'
// @ts-expect-error a tool of the repository, plain JavaScript
import { imports, wrongLayers } from '../../tools/layers.mjs'
import { f32 } from '../src/base/arrays.ts'
import { fromRotationVector } from '../src/base/mat4.ts'
import { seeded } from '../src/base/random.ts'
import { quietContext } from '../src/base/run.ts'
import { readAny, writeAny } from '../src/formats/index.ts'
import { bytesSource } from '../src/formats/source.ts'
import { localSurface, newLocalSurface, weighByArea } from '../src/shape/localsurface.ts'
import { boundingBox, coreBox, placePoints, type Points } from '../src/shape/points.ts'
import { buildRowGrid } from '../src/space/rowgrid.ts'
import { concat } from './help.ts'
import { patch } from './shapes.ts'

describe('placing points in a file’s coordinates', () => {
  test('where the scanner stood goes along, through a file and back', async () => {
    const pose = fromRotationVector(Math.PI, 0, 0, 10, 20, 30)
    const p = placePoints(patch(10, 10, 1), pose)
    const back = (await readAny(bytesSource('p.ply', concat(writeAny('ply', p, 'x'))))).data as Points
    // a half turn about x: what was seen from above is now seen from below
    expect(back.viewpoint?.map((v) => Math.round(v * 1e3) / 1e3)).toEqual([15, 15, -370])
    expect(back.xyz[2]).toBeCloseTo(30, 5)
  })
})

describe('the core of a cloud', () => {
  const r = seeded(3)
  const cloud = f32(3 * 5000).map(() => 20 * r.next())
  test('is its box when nothing lies far away', () => {
    expect([...coreBox(cloud)]).toEqual([...boundingBox(cloud)])
  })
  test('leaves far strays out, and nothing else', () => {
    const far = Float32Array.from(cloud)
    far.set([1e7, 5, 5], 300)
    const core = coreBox(far)
    expect(core[3]).toBeLessThan(23)
    let outside = 0
    for (let i = 0; i < far.length; i += 3) if ([0, 1, 2].some((k) => far[i + k] < core[k] || far[i + k] > core[k + 3])) outside++
    expect(outside).toBe(1)
  })
})

describe('local surfaces', () => {
  /** Points on z = 0.1 x^2 - 0.05 x y + 0.2 x, denser to one side. */
  const bent = (sigma: number) => {
    const r = seeded(9)
    const xyz = f32(3 * 4000)
    for (let i = 0; i < xyz.length; i += 3) {
      const [x, y] = [4 * r.next() ** 1.5 - 2, 4 * r.next() - 2]
      xyz.set([x, y, 0.1 * x * x - 0.05 * x * y + 0.2 * x + sigma * r.gauss()], i)
    }
    return xyz
  }
  test('a quadric comes back exactly: height, normal, nothing left over', async () => {
    const grid = await weighByArea(buildRowGrid(bent(0), 1), 0.4, quietContext)
    const q = newLocalSurface()
    localSurface(grid, 0.3, 0.2, 0.05, 1, 0, 0, 1, q)
    const z = 0.1 * 0.09 - 0.05 * 0.06 + 0.2 * 0.3
    expect(q.height).toBeCloseTo(z - 0.05, 5)
    expect(q.sigma).toBeLessThan(1e-4)
    const [gx, gy] = [0.2 * 0.3 - 0.05 * 0.2 + 0.2, -0.05 * 0.3]
    const l = Math.hypot(gx, gy, 1)
    for (const [a, b] of [
      [q.nx, -gx / l],
      [q.ny, -gy / l],
      [q.nz, 1 / l],
    ])
      expect(a).toBeCloseTo(b, 4)
  })
  test('its stated variance is the true one, over many draws of noise', async () => {
    const exact = bent(0)
    const r = seeded(77)
    const z = 0.1 * 0.09 - 0.05 * 0.06 + 0.2 * 0.3
    let ss = 0
    let stated = 0
    const q = newLocalSurface()
    for (let k = 0; k < 60; k++) {
      const xyz = Float32Array.from(exact, (v, i) => (i % 3 === 2 ? v + 0.02 * r.gauss() : v))
      const grid = await weighByArea(buildRowGrid(xyz, 1), 0.4, quietContext)
      localSurface(grid, 0.3, 0.2, z, 0.6, 0, 0, 1, q)
      ss += q.height ** 2
      stated += q.leverage * q.sigma ** 2
      expect(q.sigma).toBeGreaterThan(0.015)
      expect(q.sigma).toBeLessThan(0.025)
    }
    expect(ss / stated).toBeGreaterThan(0.6)
    expect(ss / stated).toBeLessThan(1.5)
  })
  test('too few points determine nothing', async () => {
    const grid = await weighByArea(buildRowGrid(Float32Array.from([0, 0, 0, 1, 0, 0, 0, 1, 0]), 1), 0.4, quietContext)
    const q = newLocalSurface()
    localSurface(grid, 0, 0, 0, 1, 0, 0, 1, q)
    expect(q.count).toBe(0)
  })
})

test('what was downloaded or is too large is found among the tracked files, fixtures are left alone', () => {
  const sizes: Record<string, number> = { 'core/src/a.ts': 900, 'dump.bin': 5e6, 'core/test/fixtures/big.stl': 5e6, 'x/lib.whl': 10 }
  expect((untidy as (f: string[], size: (f: string) => number) => string[])(Object.keys(sizes), (f) => sizes[f])).toEqual([
    'dump.bin: 5.0 MB, too large for a source file',
    'x/lib.whl: downloaded or built, does not belong here',
  ])
})

test('rooms that know what they must not, and circles, are found', () => {
  const files = new Map([
    ['base/a.ts', "import { b } from '../align/b.ts'\n"],
    ['align/b.ts', "import type {\n  C,\n  D,\n} from './c.ts'\nimport { readFileSync } from 'node:fs'\n"],
    ['align/c.ts', "export { b } from './b.ts'\nimport { q } from '../operations/q.ts'\nconst s = 'from ./nowhere.ts'\n"],
    ['operations/q.ts', "import { d } from '../align/d.ts'\nimport { z } from 'zod'\n"],
    ['align/d.ts', ''],
  ])
  expect((wrongLayers as (g: unknown) => string[])((imports as (f: unknown) => unknown)(files))).toEqual([
    'in a circle: align/b.ts, align/c.ts',
    'base/a.ts: base is a foundation and does not know align/b.ts',
    'align/b.ts: the core does not know node:fs',
    'align/c.ts: only operations know operations/q.ts',
  ])
})
