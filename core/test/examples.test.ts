import { describe, expect, test } from '@jest/globals'
import { readFileSync } from 'node:fs'
import { compare } from '../examples/compare.ts'
import { mergeScans } from '../examples/merge.ts'
import { factsOf } from '../examples/operations.ts'
import { transformArray, fromRotationVector } from '../src/base/mat4.ts'
import { f32 } from '../src/base/arrays.ts'
import { seeded } from '../src/base/random.ts'
import { writeAny } from '../src/formats/index.ts'
import { makePoints } from '../src/shape/points.ts'
import { sampleMesh } from '../src/shape/sample.ts'
import { boxMesh, concat } from './help.ts'
import { noisy, plateViews } from './shapes.ts'

describe('the examples of the README', () => {
  test('are its examples', () => {
    const readme = readFileSync(new URL('../README.md', import.meta.url), 'utf8')
    for (const name of ['compare', 'merge', 'operations'])
      expect(readme).toContain(readFileSync(new URL(`../examples/${name}.ts`, import.meta.url), 'utf8').trimEnd())
  })
  test('a scan of a box with one face 0.2 mm too high, somewhere else in space: said there, with its uncertainty', async () => {
    const box = boxMesh(60, 40, 20)
    // a mark that tells which way round it lies: a corner is missing
    const s = sampleMesh(box, 30_000, 3)
    const keep = Array.from({ length: 30_000 }, (_, i) => i).filter((i) => !(s.xyz[3 * i] > 45 && s.xyz[3 * i + 1] > 28))
    const xyz = f32(3 * keep.length)
    const normals = f32(3 * keep.length)
    keep.forEach((i, k) => {
      for (let c = 0; c < 3; c++) {
        // over a fifth of the top, so that the fit sees a defect
        const raised = s.xyz[3 * i] < 14 && s.normals[3 * i + 2] > 0.5 && c === 2 ? 0.2 : 0
        xyz[3 * k + c] = s.xyz[3 * i + c] + raised
        normals[3 * k + c] = s.normals[3 * i + c]
      }
    })
    const scan = noisy(makePoints({ xyz, normals }), 0.01, seeded(5))
    const moved = makePoints({ xyz: transformArray(fromRotationVector(0.02, -0.03, 0.05, 3, -2, 1), scan.xyz, f32(scan.xyz.length)) })
    const bytes = concat(writeAny('xyz', moved, 'scan'))
    const stl = concat(writeAny('stl', box, 'nominal'))
    const r = await compare(bytes, stl, [6, 20, 20.2], 0.1, 0.02)
    expect(Math.abs(r.deviation - 0.2)).toBeLessThan(0.02)
    expect(r.verdict).toBe('fail')
    expect(Number(r.U)).toBeGreaterThan(0.02)
    expect(Number(r.U)).toBeLessThan(0.04)
    const good = await compare(bytes, stl, [30, 20, 20], 0.1, 0.02)
    expect([good.verdict, Math.abs(good.deviation) < 0.02]).toEqual(['pass', true])
  })
  test('three views of a plate become one mesh', async () => {
    const views = await plateViews(3)
    const r = await mergeScans(views.map((v) => ({ xyz: v.data.xyz, viewpoint: [...(v.data.viewpoint ?? [0, 0, 0])] as [number, number, number] })))
    expect(r.error).toBeLessThan(0.02)
    expect(r.cell).toBeGreaterThan(r.error)
    expect(r.facts.size[0]).toBeCloseTo(100, 0)
    expect(r.stl.reduce((s, b) => s + b.length, 0)).toBe(84 + 50 * r.facts.triangles)
  })
  test('facts in words, and an error that says what to do', async () => {
    expect(await factsOf(boxMesh(10, 20, 30))).toContain('volume: 6000 mm³')
    const broken = { kind: 'points' } as never
    const said = await factsOf(broken)
    expect(said).toHaveLength(3)
    expect(said[0]).toMatch(/takes mesh/)
  })
})
