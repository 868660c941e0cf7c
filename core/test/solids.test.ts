import { describe, expect, test } from '@jest/globals'
import { f32 } from '../src/base/arrays.ts'
import { identity, multiply, fromRotationVector, translation } from '../src/base/mat4.ts'
import { quietContext } from '../src/base/run.ts'
import { seeded } from '../src/base/random.ts'
import { deviationTo } from '../src/inspect/deviation.ts'
import { meshFacts } from '../src/measure/facts.ts'
import { mergePasses } from '../src/merge/merge.ts'
import { parseRecipe, runRecipe } from '../src/operations/recipe.ts'
import { OPERATIONS, runOperation } from '../src/operations/registry.ts'
import type { Item } from '../src/operations/operation.ts'
import { closeGaps } from '../src/repair/gaps.ts'
import { reduceMesh } from '../src/repair/reduce.ts'
import type { Mesh } from '../src/shape/mesh.ts'
import { makePoints, type Points } from '../src/shape/points.ts'
import { boxMesh, oakError, randomPoints, sphereMesh } from './help.ts'

/** Even points of closed surfaces with normals, about one in each `pitch` squared. */
function sphere(r: number, pitch: number): Points {
  const n = Math.round((4 * Math.PI * r * r) / pitch ** 2)
  const xyz = f32(3 * n)
  const normals = f32(3 * n)
  for (let i = 0; i < n; i++) {
    const z = 1 - (2 * i + 1) / n
    const a = i * Math.PI * (3 - Math.sqrt(5))
    const s = Math.sqrt(1 - z * z)
    normals.set([s * Math.cos(a), s * Math.sin(a), z], 3 * i)
    xyz.set([r * s * Math.cos(a), r * s * Math.sin(a), r * z], 3 * i)
  }
  return makePoints({ xyz, normals })
}

function torus(R: number, r: number, pitch: number): Points {
  const v: number[] = []
  const m: number[] = []
  const rings = Math.round((2 * Math.PI * r) / pitch)
  for (let j = 0; j < rings; j++) {
    const b = (2 * Math.PI * j) / rings
    const around = Math.round((2 * Math.PI * (R + r * Math.cos(b))) / pitch)
    for (let i = 0; i < around; i++) {
      const a = (2 * Math.PI * (i + (j % 2) / 2)) / around
      v.push((R + r * Math.cos(b)) * Math.cos(a), (R + r * Math.cos(b)) * Math.sin(a), r * Math.sin(b))
      m.push(Math.cos(b) * Math.cos(a), Math.cos(b) * Math.sin(a), Math.sin(b))
    }
  }
  return makePoints({ xyz: f32(v.length).map((_, i) => v[i]), normals: f32(m.length).map((_, i) => m[i]) })
}

function cube(side: number, pitch: number): Points {
  const v: number[] = []
  const m: number[] = []
  const n = Math.round(side / pitch)
  for (let axis = 0; axis < 3; axis++)
    for (const s of [0, 1])
      for (let i = 0; i < n; i++)
        for (let j = 0; j < n; j++) {
          const p = [0, 0, 0]
          p[axis] = s * side
          p[(axis + 1) % 3] = ((i + 0.5) * side) / n
          p[(axis + 2) % 3] = ((j + 0.5) * side) / n
          v.push(...p)
          const k = [0, 0, 0]
          k[axis] = s ? 1 : -1
          m.push(...k)
        }
  return makePoints({ xyz: f32(v.length).map((_, i) => v[i]), normals: f32(m.length).map((_, i) => m[i]) })
}

const place = (data: Points): Item<Points> => ({ name: 'x', data, pose: identity() })

describe('solids with closed formulae come back out of the merge: volume and area within 0.1 %', () => {
  const cases: [string, Points, number, number, number][] = [
    ['sphere of 20 mm radius', sphere(20, 0.3), (4 / 3) * Math.PI * 8000, 4 * Math.PI * 400, 0],
    ['torus 20 / 7 mm', torus(20, 7, 0.3), 2 * Math.PI ** 2 * 20 * 49, 4 * Math.PI ** 2 * 140, 0],
    ['cube of 30 mm', cube(30, 0.25), 27_000, 5400, 360],
  ]
  test.each(cases)(
    '%s',
    async (_name, points, volume, area, edges) => {
      const { mesh, crispLength } = await mergePasses([place(points)], { cell: 0.3, closing: 'closed' }, quietContext)
      const facts = meshFacts(mesh)
      expect(facts.topology.openEdges).toBe(0)
      expect(facts.topology.nonManifoldEdges).toBe(0)
      expect(facts.topology.components).toBe(1)
      expect(Math.abs(facts.volume / volume - 1)).toBeLessThan(1e-3)
      expect(Math.abs(facts.area / area - 1)).toBeLessThan(1e-3)
      // twelve edges of 30 mm, and none on what is round
      expect(Math.abs(crispLength - edges)).toBeLessThan(0.01 * edges + 1e-9)
    },
    240_000,
  )
  test('edges come out rounded when crisp ones are not wanted', async () => {
    const { mesh, crispLength } = await mergePasses([place(cube(30, 0.5))], { cell: 0.6, crisp: false }, quietContext)
    expect(crispLength).toBe(0)
    expect(meshFacts(mesh).area / 5400).toBeLessThan(0.99)
  })
  test('a torus stays a ring: genus 1', async () => {
    const { mesh } = await mergePasses([place(torus(20, 7, 0.5))], { cell: 0.6 }, quietContext)
    const edges = (3 * mesh.triangles.length) / 6
    expect(mesh.vertices.length / 3 - edges + mesh.triangles.length / 3).toBe(0)
  })
  test('open where nothing was seen; closed on demand, and then flagged not measured', async () => {
    const whole = sphere(15, 0.4)
    const half: number[] = []
    const n: number[] = []
    for (let i = 0; i < whole.xyz.length; i += 3)
      if (whole.xyz[i + 2] > -9) {
        half.push(...whole.xyz.subarray(i, i + 3))
        n.push(...(whole.normals as Float32Array).subarray(i, i + 3))
      }
    const points = makePoints({ xyz: f32(half.length).map((_, i) => half[i]), normals: f32(n.length).map((_, i) => n[i]) })
    const open = meshFacts((await mergePasses([place(points)], { cell: 0.5 }, quietContext)).mesh)
    expect(open.topology.openEdges).toBeGreaterThan(50)
    expect(open.topology.borders).toBe(1)
    const closed = meshFacts((await mergePasses([place(points)], { cell: 0.5, closing: 'closed' }, quietContext)).mesh)
    expect(closed.topology.openEdges).toBe(0)
    expect(closed.unmeasuredShare).toBeGreaterThan(0.1)
  }, 120_000)
})

describe('closing gaps', () => {
  /** A ball without the triangles whose middle lies above z, and without a strip that leaves a large border below. */
  const holed = (above: number, below = -99): Mesh => {
    const m = sphereMesh(20, 60)
    const keep: number[] = []
    for (let i = 0; i < m.triangles.length; i += 3) {
      const z = [0, 1, 2].reduce((s, k) => s + m.vertices[3 * m.triangles[i + k] + 2] / 3, 0)
      if (z < above && z > below) keep.push(...m.triangles.subarray(i, i + 3))
    }
    return { ...m, triangles: Uint32Array.from(keep) }
  }
  test('a small gap is closed as fine as its border, flagged, and the measured part is untouched', () => {
    const before = holed(19.6)
    const r = closeGaps(before, { size: 10 }, quietContext)
    const facts = meshFacts(r.mesh)
    expect([r.closed, r.left, facts.topology.openEdges, facts.topology.nonManifoldEdges, facts.topology.flippedEdges]).toEqual([1, 0, 0, 0, 0])
    expect([...r.mesh.vertices.subarray(0, before.vertices.length)]).toEqual([...before.vertices])
    // the cap of height 0.4 mm has an area of 2 pi r h; the membrane is a little less
    expect(Math.abs(r.area / (2 * Math.PI * 20 * 0.4) - 1)).toBeLessThan(0.1)
    expect(facts.unmeasuredShare).toBeGreaterThan(0.005)
    expect(Math.abs(facts.volume / ((4 / 3) * Math.PI * 8000) - 1)).toBeLessThan(0.003)
  })
  test('what is larger stays open and is told', () => {
    const r = closeGaps(holed(19.6, -10), { size: 10 }, quietContext)
    expect([r.closed, r.left]).toEqual([1, 1])
    expect(r.largestLeft).toBeGreaterThan(30)
    expect(meshFacts(r.mesh).topology.borders).toBe(1)
  })
  test('a closed body and a size of nothing', () => {
    expect(closeGaps(boxMesh(5, 5, 5), {}, quietContext).closed).toBe(0)
    expect(() => closeGaps(boxMesh(5, 5, 5), { size: 0 }, quietContext)).toThrow('above 0 mm')
  })
})

describe('reduction says what it did', () => {
  test('to a count: the stated deviation is the measured one', async () => {
    const m = sphereMesh(20, 96)
    const r = await reduceMesh(m, { triangles: 3000 }, quietContext)
    expect(r.mesh.triangles.length / 3).toBeLessThanOrEqual(3000)
    const d = await deviationTo(r.mesh, m.vertices, 5, quietContext)
    const largest = Math.max(...d.values.map(Math.abs))
    expect(largest).toBeLessThanOrEqual(r.maxDeviation + 1e-4)
    expect(r.maxDeviation).toBeLessThan(0.2)
  })
  test('to a permitted deviation: it is kept', async () => {
    const r = await reduceMesh(sphereMesh(20, 96), { deviation: 0.05 }, quietContext)
    expect(r.maxDeviation).toBeLessThanOrEqual(0.05)
    expect(r.mesh.triangles.length / 3).toBeLessThan(12_000)
  })
  test('without a target it asks for one', async () => {
    expect((await oakError(reduceMesh(boxMesh(1, 1, 1), {}, quietContext))).code).toBe('bad-target')
  })
})

describe('deviation: exact distances, sign right at edges and corners', () => {
  test('around a box, against the closed formula', async () => {
    const points = randomPoints(4000, 60, 3)
    const d = await deviationTo(boxMesh(20, 20, 20), points, 100, quietContext)
    for (let i = 0; i < 4000; i++) {
      const q = [0, 1, 2].map((k) => Math.abs(points[3 * i + k] - 10) - 10)
      const outside = Math.hypot(...q.map((v) => Math.max(0, v)))
      const want = outside > 0 ? outside : Math.max(...q)
      expect(d.values[i]).toBeCloseTo(want, 4)
    }
  })
  test('statistics are weighted by area: a part twice as dense on one side counts the same', async () => {
    const part: Item<Mesh> = { name: 'part', data: boxMesh(20, 20, 20), pose: translation(0, 0, 0.05) }
    const nominal: Item<Mesh> = { name: 'nominal', data: boxMesh(20, 20, 20), pose: identity() }
    const r = await runOperation('deviation', { measured: [part], nominal: [nominal] }, { limit: 0.1 }, quietContext)
    expect(r.evidence.quantities[0]).toMatchObject({ name: 'within 0.1 mm', value: 100 })
  })
})

describe('operations and recipes', () => {
  test('every operation describes itself, and refuses wrong settings and missing inputs by name', async () => {
    for (const o of OPERATIONS) {
      expect([o.name, o.about.length > 20, o.title.length > 3]).toEqual([o.name, true, true])
      const port = Object.keys(o.inputs)[0]
      expect(
        (
          await oakError(
            runOperation(
              o.name,
              {},
              o.name === 'reduce'
                ? { triangles: 9 }
                : o.name === 'thin'
                  ? { size: 1 }
                  : o.name === 'flag'
                    ? { at: [0, 0, 0] }
                    : o.name === 'align-pairs'
                      ? { pairs: Array.from({ length: 3 }, () => ({ loose: [0, 0, 0], anchor: [0, 0, 0] })) }
                      : o.name === 'lasso'
                        ? { loops: [{ view: Array(16).fill(0), loop: [0, 0, 1, 0, 0, 1], depth: [0, 0, 1] }] }
                        : {},
              quietContext,
            ),
          )
        ).where,
      ).toContain(port)
    }
  })
  test('nothing left after cleaning, and a selection of nothing, are said', async () => {
    const p = place(makePoints({ xyz: randomPoints(500, 10, 1) }))
    expect(
      (
        await oakError(
          runOperation(
            'trim-plane',
            { passes: [p] },
            {
              through: [
                [0, 0, 0],
                [1, 0, 0],
                [0, 1, 0],
              ],
              raise: 99,
            },
            quietContext,
          ),
        )
      ).code,
    ).toBe('nothing-left')
    expect(
      (
        await oakError(
          runOperation(
            'trim-plane',
            { passes: [p] },
            {
              through: [
                [0, 0, 0],
                [1, 0, 0],
                [2, 0, 0],
              ],
            },
            quietContext,
          ),
        )
      ).code,
    ).toBe('on-a-line')
    expect(
      (
        await oakError(
          runOperation(
            'lasso',
            { passes: [p] },
            { loops: [{ view: [1, 0, 0, 0, 0, 1, 0, 0, 0, 0, 1, 0, 0, 0, 0, 1], loop: [0.9, 0.9, 0.91, 0.9, 0.9, 0.91], depth: [0, 0, 1] }] },
            quietContext,
          ),
        )
      ).code,
    ).toBe('nothing-selected')
  })
  test('two parts in one file are told by the islands; duplicate points do no harm', async () => {
    const a = randomPoints(3000, 10, 1)
    const both = f32(3 * 6000)
    for (let i = 0; i < 3000; i++)
      for (let k = 0; k < 3; k++) {
        // every point of the first part twice; the second part 100 mm beside it, smaller
        both[6 * i + k] = both[6 * i + 3 + k] = a[3 * i + k] * (i < 2500 ? 1 : 0.5) + (i < 2500 ? 0 : 100)
      }
    const r = await runOperation('islands', { passes: [place(makePoints({ xyz: both }))] }, { gap: 5, largestOnly: true }, quietContext)
    expect((r.outputs['passes'] as Item<Points>[])[0].data.xyz.length / 3).toBe(5000)
  })
  test('a recipe runs on other data and gives the same evidence as its steps alone', async () => {
    const random = seeded(4)
    const noisy = (shift: number) => place(makePoints({ ...sphere(12, 0.8), xyz: sphere(12, 0.8).xyz.map((v) => v + shift + 0.01 * random.gauss()) }))
    const recipe = parseRecipe({
      oakGauge: 'recipe',
      version: 1,
      title: 'ball',
      inputs: { passes: { many: true } },
      steps: [
        { operation: 'merge', inputs: { passes: ['passes'] }, params: { cell: 1 }, outputs: { mesh: 'mesh' } },
        { operation: 'facts', inputs: { mesh: ['mesh'] } },
      ],
      deliver: [{ item: 'mesh', file: 'mesh.stl', format: 'stl' }],
    })
    for (const shift of [0, 7]) {
      const r = await runRecipe(recipe, new Map([['passes', [noisy(shift)]]]), quietContext, () => 0)
      expect(r.steps.map((s) => s.operation)).toEqual(['merge', 'facts'])
      const volume = Number(r.steps[1].evidence.quantities.find((q) => q.name === 'volume')?.value)
      expect(Math.abs(volume / ((4 / 3) * Math.PI * 12 ** 3) - 1)).toBeLessThan(0.01)
    }
    expect((await oakError(runRecipe(recipe, new Map(), quietContext, () => 0))).code).toBe('missing-input')
    expect(() => parseRecipe({ oakGauge: 'recipe', version: 2 })).toThrow('not understood')
  })
  test('poses place things, points stay as they were captured', async () => {
    const pose = multiply(translation(5, 0, 0), fromRotationVector(0, 0, 0.3))
    const p: Item<Points> = { name: 'x', data: makePoints({ xyz: randomPoints(2000, 10, 9) }), pose }
    const r = await runOperation(
      'align-pairs',
      { loose: [p] },
      {
        pairs: [
          [0, 0, 0],
          [9, 0, 0],
          [0, 7, 1],
        ].map((a) => ({ loose: a, anchor: [a[0] + 3, a[1], a[2]] })),
      },
      quietContext,
    )
    const out = (r.outputs['loose'] as Item<Points>[])[0]
    expect(out.data.xyz).toBe(p.data.xyz)
    expect(out.pose[3]).toBeCloseTo(8, 9)
  })
})
