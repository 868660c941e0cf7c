import { describe, expect, test } from '@jest/globals'
import { identity } from '../src/base/mat4.ts'
import { seeded } from '../src/base/random.ts'
import { quietContext } from '../src/base/run.ts'
import type { Item } from '../src/operations/operation.ts'
import { parseRecipe, runRecipe } from '../src/operations/recipe.ts'
import { makePoints, type Points } from '../src/shape/points.ts'
import { boxMesh, oakError, value } from './help.ts'
import { patch, place, plateViews, sphere } from './shapes.ts'

describe('recipes', () => {
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
      const volume = Number(r.steps[1].evidence.quantities.find((q) => q.id === 'volume')?.value)
      expect(Math.abs(volume / ((4 / 3) * Math.PI * 12 ** 3) - 1)).toBeLessThan(0.01)
    }
    expect((await oakError(runRecipe(recipe, new Map(), quietContext, () => 0))).code).toBe('missing-input')
    expect(() => parseRecipe({ oakGauge: 'recipe', version: 2 })).toThrow('not understood')
  })
  const base = { oakGauge: 'recipe', version: 1 } as const
  const passes = () =>
    new Map<string, Item[]>([
      ['top', [place(patch(10, 10, 1), 'a')]],
      ['under', [place(patch(10, 10, 1, 5), 'b'), place(patch(10, 10, 1, 9), 'c')]],
    ])
  test('what a step replaces keeps its names, several at a time', async () => {
    const recipe = parseRecipe({
      ...base,
      inputs: { top: {}, under: { many: true } },
      steps: [{ operation: 'thin', inputs: { passes: ['top', 'under'] }, params: { size: 3 } }],
    })
    const { items } = await runRecipe(recipe, passes(), quietContext, () => 0)
    expect([...items].map(([name, list]) => [name, list.map((i) => i.name)])).toEqual([
      ['top', ['a']],
      ['under', ['b', 'c']],
    ])
    expect((items.get('under') as Item<Points>[])[1].data.xyz.length / 3).toBeLessThan(121)
  })
  test('an error says in which step, and what to do', async () => {
    const steps = [
      { operation: 'thin', inputs: { passes: ['top'] }, params: { size: 1 } },
      {
        operation: 'trim-plane',
        inputs: { passes: ['top'] },
        params: {
          through: [
            [0, 0, 0],
            [1, 0, 0],
            [0, 1, 0],
          ],
          raise: 50,
        },
      },
    ]
    const e = await oakError(runRecipe(parseRecipe({ ...base, inputs: { top: {} }, steps }), passes(), quietContext, () => 0))
    expect([e.code, e.where.startsWith('step 2 (trim-plane)'), e.remedy !== '']).toEqual(['nothing-left', true, true])
    const unmade = parseRecipe({ ...base, inputs: {}, steps: [{ operation: 'facts', inputs: { mesh: ['part'] } }] })
    expect((await oakError(runRecipe(unmade, passes(), quietContext, () => 0))).message).toContain('“part”')
    const unknown = parseRecipe({ ...base, inputs: {}, steps: [{ operation: 'polish', inputs: {} }] })
    expect((await oakError(runRecipe(unknown, passes(), quietContext, () => 0))).code).toBe('unknown-operation')
  })
  test('what the adjustment found limits the merge and is part of each flag, as in the ledger', async () => {
    const views = await plateViews(3)
    const recipe = (cell: number) =>
      parseRecipe({
        ...base,
        inputs: { views: { many: true }, nominal: {} },
        steps: [
          { operation: 'adjust', inputs: { passes: ['views'] } },
          { operation: 'merge', inputs: { passes: ['views'] }, params: { cell }, outputs: { mesh: 'part' } },
          { operation: 'deviation', inputs: { measured: ['part'], nominal: ['nominal'] }, outputs: { field: 'map' } },
          { operation: 'flag', inputs: { field: ['map'], on: ['part'] }, params: { at: [50, 45, 20], radius: 2 } },
        ],
      })
    const brought = new Map<string, Item[]>([
      ['views', views],
      ['nominal', [{ name: 'nominal', data: boxMesh(100, 60, 20), pose: identity() }]],
    ])
    expect((await oakError(runRecipe(recipe(1e-4), brought, quietContext, () => 0))).code).toBe('cell-below-error')
    const r = await runRecipe(recipe(0.5), brought, quietContext, () => 0)
    const error = value(r.steps[0].evidence, 'alignment-worst-pass') as number
    const flagged = r.steps[3].evidence.quantities[0]
    expect(Math.abs(Number(flagged.value))).toBeLessThan(0.02)
    // the alignment is known, how the scanner was and how the part was placed is not: nothing is decided, and what is known is told
    expect(error).toBeGreaterThan(0)
    const parts = Object.fromEntries((flagged.parts ?? []).map((p) => [p.source, p.u]))
    expect([parts['scanner'], parts['placing'], parts['nominal']]).toEqual(['unknown', 'unknown', 'unknown'])
    expect(parts['alignment']).toBeGreaterThan(0)
    expect(parts['alignment']).toBeLessThan(2 * error)
    expect([flagged.u, value(r.steps[3].evidence, 'verdict')]).toEqual(['unknown', 'not decidable'])
    // the table speaks of the part, the gaps of the places where they were measured
    expect([r.on.get('map'), r.on.get('gaps')]).toEqual(['part', 'places'])
  })
  test('progress runs from 0 to 1 over all steps, and cancelling is heard between them', async () => {
    const seen: number[] = []
    const steps = [0.5, 1, 2].map((size) => ({ operation: 'islands', inputs: { passes: ['top'] }, params: { gap: 3 * size } }))
    const recipe = parseRecipe({ ...base, inputs: { top: {} }, steps })
    await runRecipe(recipe, passes(), { ...quietContext, progress: (d) => seen.push(d) }, () => 0)
    expect(seen).toEqual([...seen].sort((a, b) => a - b))
    expect(seen.at(-1)).toBeCloseTo(1, 6)
    let asked = 0
    const signal = {
      get aborted() {
        return ++asked > 1
      },
    }
    expect((await oakError(runRecipe(recipe, passes(), { ...quietContext, signal }, () => 0))).code).toBe('cancelled')
  })
  test('what is no recipe is refused, and where is said', async () => {
    for (const [json, where] of [
      [{ ...base, inputs: {}, steps: [] }, 'steps'],
      [{ ...base, inputs: {}, steps: [{ operation: 'thin', inputs: { passes: 'top' } }] }, 'steps.0.inputs.passes'],
      [{ ...base, inputs: {}, steps: [{ operation: 'facts', inputs: {} }], deliver: [{ item: 'a', file: 'a.doc', format: 'doc' }] }, 'deliver.0.format'],
      ['nonsense', ''],
    ] as const) {
      const e = await oakError(Promise.resolve().then(() => parseRecipe(json)))
      expect([e.code, e.where]).toEqual(['bad-recipe', where])
    }
  })
})
