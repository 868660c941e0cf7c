import { describe, expect, test } from '@jest/globals'
import { f32 } from '../src/base/arrays.ts'
import { fromRotationVector, identity, multiply, translation } from '../src/base/mat4.ts'
import { seeded } from '../src/base/random.ts'
import { quietContext } from '../src/base/run.ts'
import { bytesSource } from '../src/formats/source.ts'
import { writeFieldCsv } from '../src/formats/table.ts'
import { writeAny } from '../src/formats/index.ts'
import type { Field, FileValue, Item } from '../src/operations/operation.ts'
import { checkedParams, operation, OPERATIONS, runOperation } from '../src/operations/registry.ts'
import type { Mesh } from '../src/shape/mesh.ts'
import { makePoints, type Points } from '../src/shape/points.ts'
import { boxMesh, concat, oakError, randomPoints, sphereMesh, textSource, value } from './help.ts'
import { cube, noisy as withNoise, patch, place, plateViews, sphere } from './shapes.ts'

const mesh = (data: Mesh, pose = identity(), name = 'mesh'): Item<Mesh> => ({ name, data, pose })
const file = (name: string, bytes: Uint8Array): FileValue[] => [{ kind: 'file', source: bytesSource(name, bytes) }]

describe('operations and recipes', () => {
  test('every operation describes itself, and refuses wrong settings and missing inputs by name', async () => {
    for (const o of OPERATIONS) {
      expect([o.name, o.about.length > 20, o.title.length > 3]).toEqual([o.name, true, true])
      const port = Object.keys(o.inputs)[0]
      expect((await oakError(runOperation(o.name, {}, o.sample ?? {}, quietContext))).where).toContain(port)
    }
  })
  test('nothing left after cleaning, places on a line, and a selection of nothing, are said', async () => {
    const p = place(makePoints({ xyz: randomPoints(500, 10, 1) }))
    const code = async (operation: string, params: object) => (await oakError(runOperation(operation, { passes: [p] }, params, quietContext))).code
    const through = (y: number) => [
      [0, 0, 0],
      [1, 0, 0],
      [2, y, 0],
    ]
    expect(await code('trim-plane', { through: through(1), raise: 99 })).toBe('nothing-left')
    expect(await code('trim-plane', { through: through(0) })).toBe('on-a-line')
    const loop = { view: [1, 0, 0, 0, 0, 1, 0, 0, 0, 0, 1, 0, 0, 0, 0, 1], loop: [0.9, 0.9, 0.91, 0.9, 0.9, 0.91], depth: [0, 0, 1] }
    expect(await code('lasso', { loops: [loop] })).toBe('nothing-selected')
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

describe('bringing in', () => {
  /** an STL as others write it, without a word about its unit */
  const stl = (m: Mesh) => concat(writeAny('stl', m, 'x')).fill(0, 0, 80)
  const bring = async (name: string, bytes: Uint8Array, params: unknown = {}) => {
    const r = await runOperation('import', { file: file(name, bytes) }, params, quietContext)
    return { item: (r.outputs['item'] as Item[])[0], evidence: r.evidence }
  }
  test('a part four units long has no unit; said, it is taken, and the size is in mm', async () => {
    const small = stl(boxMesh(4, 2, 1))
    const e = await oakError(bring('small.stl', small))
    expect([e.code, e.where]).toEqual(['unit-unknown', 'small.stl'])
    const inch = await bring('small.stl', small, { unit: 'in' })
    expect(value(inch.evidence, 'size-x')).toBeCloseTo(101.6, 3)
    expect(value((await bring('small.stl', small, { unit: 'cm' })).evidence, 'size-y')).toBeCloseTo(20, 5)
    expect(inch.item.name).toBe('small')
  })
  test('far from the origin the coordinates are kept relative to a pose: no micrometre is lost', async () => {
    const text = Array.from({ length: 300 }, (_, i) => `${100_000 + 0.25 * i} ${-250_000 + (i % 7)} ${5 + 0.001 * (i % 3)}`).join('\n')
    const { item } = await bring('far.xyz', new TextEncoder().encode(text))
    const xyz = (item.data as Points).xyz
    expect(Math.max(...xyz.map(Math.abs))).toBeLessThan(200)
    expect(item.pose[3] + xyz[3]).toBeCloseTo(100_000.25, 3)
    expect(item.pose[7] + xyz[4]).toBeCloseTo(-249_999, 3)
  })
  test('a unit that the file says itself is applied once, whatever is given; insisted on, the given one holds', async () => {
    const box = boxMesh(4, 3, 2)
    const inch = concat(writeAny('ply', box, 'x'))
    // the same file in inches
    const text = new TextDecoder('latin1').decode(inch)
    const at = text.indexOf('unit mm')
    inch.set(new TextEncoder().encode('unit in'), at)
    const plain = await bring('a.ply', inch)
    expect([value(plain.evidence, 'size-x'), value(plain.evidence, 'unit-of-the-file')]).toEqual([4 * 25.4, 'in'])
    const twice = await bring('a.ply', inch, { unit: 'in' })
    expect(value(twice.evidence, 'size-x')).toBeCloseTo(101.6, 4)
    expect(twice.evidence.warnings).toEqual([])
    const other = await bring('a.ply', inch, { unit: 'cm' })
    expect(value(other.evidence, 'size-x')).toBeCloseTo(101.6, 4)
    expect(other.evidence.warnings.join()).toMatch(/says its unit itself \(in\); the unit given, cm, was not applied/)
    const insisted = await bring('a.ply', inch, { unit: 'cm', insist: true })
    expect([value(insisted.evidence, 'size-x'), value(insisted.evidence, 'unit-of-the-file')]).toEqual([40, 'cm'])
  })
  test('a small part without a unit passes as millimetres, but not without a word', async () => {
    const { evidence } = await bring('bracket.stl', stl(boxMesh(12, 4, 3)))
    expect(value(evidence, 'unit-of-the-file')).toBe('mm, assumed')
    expect(evidence.warnings.join()).toMatch(/millimetres were taken: 13\.0 mm .* In inches it would be 330 mm/)
    expect((await bring('large.stl', stl(boxMesh(120, 40, 30)))).evidence.warnings).toEqual([])
  })
  test.each([
    ['ply', 'format ascii 1.0\ncomment made far away\nelement vertex 4\nproperty double x\nproperty double y\nproperty double z\n', 'mm'],
    ['ply', 'format ascii 1.0\ncomment unit m\nelement vertex 4\nproperty double x\nproperty double y\nproperty double z\n', 'm'],
  ])('five kilometres from the origin a double-precision %s keeps its micrometres (%#)', async (ending, head, unit) => {
    const k = unit === 'm' ? 1000 : 1
    const rows = [
      [0, 0, 0],
      [40.125, 0, 0],
      [0, 30.0625, 0],
      [0, 0, 20.03125],
    ]
    const text = `ply\n${head}end_header\n${rows
      .map((r) =>
        r
          .map((v, i) => (v + [5e6, -3e6, 1e6][i]) / k)
          .map(String)
          .join(' '),
      )
      .join('\n')}\n`
    const { item } = await bring(`far.${ending}`, new TextEncoder().encode(text))
    const xyz = (item.data as Points).xyz
    rows.forEach((r, i) => r.forEach((v, c) => expect(Math.abs(item.pose[4 * c + 3] + xyz[3 * i + c] - v - [5e6, -3e6, 1e6][c])).toBeLessThan(2e-6)))
  })
  test('a small part half a metre from the origin keeps its coordinates, and each of them to the last bit', async () => {
    const box = boxMesh(20, 10, 5)
    const away = { ...box, vertices: box.vertices.map((v, i) => Math.fround(v / 3 + [500.125, 300.0625, -400.7][i % 3])) }
    const { item } = await bring('away.ply', concat(writeAny('ply', away, 'x')))
    expect([...item.pose]).toEqual([...identity()])
    expect([...(item.data as Mesh).vertices]).toEqual([...away.vertices])
  })
  test('the name can be given; a wrong unit is refused by name', async () => {
    expect((await bring('a.b.stl', stl(boxMesh(30, 30, 30)), { name: 'Shaft 7' })).item.name).toBe('Shaft 7')
    const e = await oakError(bring('a.stl', stl(boxMesh(30, 30, 30)), { unit: 'parsec' }))
    expect([e.code, e.where]).toEqual(['bad-setting', 'import, unit'])
  })
})

describe('what operations say', () => {
  test('facts: an open mesh has no volume, one with a triangle turned over is not trusted', async () => {
    const box = boxMesh(10, 20, 30)
    const whole = (await runOperation('facts', { mesh: [mesh(box)] }, {}, quietContext)).evidence
    expect([value(whole, 'volume'), value(whole, 'area'), value(whole, 'open-edges')]).toEqual([6000, 2200, 0])
    const open = (await runOperation('facts', { mesh: [mesh({ ...box, triangles: box.triangles.slice(6) })] }, {}, quietContext)).evidence
    expect([value(open, 'volume'), value(open, 'borders')]).toEqual(['open', 1])
    const turned = box.triangles.slice()
    ;[turned[1], turned[2]] = [turned[2], turned[1]]
    expect((await runOperation('facts', { mesh: [mesh({ ...box, triangles: turned })] }, {}, quietContext)).evidence.warnings.join()).toContain('inside out')
  })
  test('sampling: as many as asked for, on the surface, the pose kept', async () => {
    const pose = translation(0, 0, 40)
    const r = await runOperation('sample', { mesh: [mesh(sphereMesh(10, 40), pose)] }, { count: 5000, seed: 3 }, quietContext)
    const [p] = r.outputs['points'] as Item<Points>[]
    expect(p.data.xyz.length).toBe(15_000)
    expect(p.pose).toBe(pose)
    for (let i = 0; i < 15_000; i += 3) expect(Math.abs(Math.hypot(...p.data.xyz.subarray(i, i + 3)) - 10)).toBeLessThan(0.02)
    const upper = p.data.xyz.filter((v, i) => i % 3 === 2 && v > 0).length
    expect(Math.abs(upper - 2500)).toBeLessThan(30)
  })
  test('normals: noise and spacing of each pass by name', async () => {
    const r = await runOperation(
      'normals',
      { passes: [place(withNoise(patch(20, 20, 0.25), 0.03, seeded(1)), 'top'), place(makePoints({ xyz: cube(10, 0.5).xyz }), 'blind')] },
      {},
      quietContext,
    )
    expect(value(r.evidence, 'noise', 'top')).toBeCloseTo(0.03, 2)
    expect(value(r.evidence, 'point-spacing', 'top')).toBeCloseTo(0.25, 1)
    expect(r.evidence.warnings.join()).toContain('blind')
  })
  test('thinning and strays count what went', async () => {
    const p = place(patch(30, 30, 0.25))
    const r = await runOperation('thin', { passes: [p] }, { size: 1 }, quietContext)
    const left = (r.outputs['passes'] as Item<Points>[])[0].data.xyz.length / 3
    expect(value(r.evidence, 'points-left')).toBe(left)
    expect(value(r.evidence, 'share-kept')).toBeCloseTo((100 * left) / 121 ** 2, 6)
    const with3 = makePoints({ xyz: Float32Array.of(...p.data.xyz, 5, 5, 9, 9, 5, 12, 20, 20, -8) })
    const s = await runOperation('strays', { passes: [place(with3)] }, {}, quietContext)
    expect(value(s.evidence, 'points-gone')).toBe(3)
  })
  test('the cell of a merge is never finer than the alignment', async () => {
    const p = [place(sphere(10, 0.5))]
    const e = await oakError(runOperation('merge', { passes: p }, { cell: 0.6, alignmentError: 0.8 }, quietContext))
    expect([e.code, e.remedy.includes('0.80 mm')]).toEqual(['cell-below-error', true])
    const r = await runOperation('merge', { passes: p }, { cell: 0.6, alignmentError: 0.01, crisp: false }, quietContext)
    expect(value(r.evidence, 'cell-size')).toBe(0.6)
    expect(value(r.evidence, 'crisp-edges')).toBe(0)
  })
  test('gaps closed and left, and when there is none', async () => {
    const ball = sphereMesh(20, 40)
    const holed = { ...ball, triangles: ball.triangles.slice(240) }
    const r = await runOperation('close-gaps', { mesh: [mesh(holed)] }, { size: 12 }, quietContext)
    expect([value(r.evidence, 'gaps-closed'), value(r.evidence, 'open-edges')]).toEqual([1, 0])
    expect(Number(value(r.evidence, 'not-measured'))).toBeGreaterThan(0)
    expect((await runOperation('close-gaps', { mesh: [mesh(ball)] }, {}, quietContext)).evidence.warnings.join()).toContain('no gap')
  })
  test('an adjustment reports each pass and each pair, and where the gaps were measured', async () => {
    const views = await plateViews(3)
    const off = views.map((v, i) => ({ ...v, pose: i ? translation(0.2 * i, -0.1, 0.15) : identity() }))
    const r = await runOperation('adjust', { passes: off }, { anchor: 1 }, quietContext)
    for (const v of views) expect(Number(value(r.evidence, 'gap-rms', v.name))).toBeLessThan(0.03)
    // the anchor stays, and has no error of its own
    expect(value(r.evidence, 'moved', 'view 1')).toBe(0)
    expect(value(r.evidence, 'pose', 'view 1')).toBeUndefined()
    expect(value(r.evidence, 'pair-rms', 'view 0 with view 1')).toBeDefined()
    const places = (r.outputs['places'] as Item<Points>[])[0]
    const gaps = (r.outputs['gaps'] as Item<Field>[])[0]
    expect(places.data.xyz.length).toBe(3 * gaps.data.values.length)
    expect(r.evidence.histogram?.shares.reduce((s, v) => s + v, 0)).toBeCloseTo(1, 1)
    const fine = await runOperation(
      'align-fine',
      { anchor: [views[0]], loose: [{ ...views[1], pose: translation(0.5, 0.3, -0.4) }] },
      { reach: 3 },
      quietContext,
    )
    expect(Math.hypot(...[3, 7, 11].map((k) => (fine.outputs['loose'] as Item[])[0].pose[k]))).toBeLessThan(0.03)
  })
})

describe('settings and inputs are checked before anything runs', () => {
  test('defaults are filled in; unknown operations name the known ones', async () => {
    expect(checkedParams(operation('merge'), { cell: 0.4 })).toMatchObject({ cell: 0.4, closing: 'open', gapSize: 5, crisp: true, crumbShare: 0.001 })
    const e = await oakError(Promise.resolve().then(() => operation('polish')))
    expect([e.code, e.remedy.includes('trim-plane')]).toEqual(['unknown-operation', true])
  })
  test('several wrong settings are all named', async () => {
    const e = await oakError(runOperation('merge', { passes: [place(sphere(5, 1))] }, { cell: -1, closing: 'ajar' }, quietContext))
    expect(e.message).toMatch(/cell:.*closing:/)
  })
  test('a mesh where points are wanted, and two where one is', async () => {
    expect((await oakError(runOperation('merge', { passes: [mesh(boxMesh(1, 1, 1))] }, {}, quietContext))).code).toBe('wrong-input')
    const e = await oakError(runOperation('facts', { mesh: [mesh(boxMesh(1, 1, 1)), mesh(boxMesh(2, 1, 1))] }, {}, quietContext))
    expect([e.code, e.where]).toEqual(['too-many-inputs', 'facts, mesh'])
  })
  test('cancelled before it began', async () => {
    const e = await oakError(runOperation('facts', { mesh: [mesh(boxMesh(1, 1, 1))] }, {}, { ...quietContext, signal: { aborted: true } }))
    expect(e.code).toBe('cancelled')
  })
})

describe('deviation as a table', () => {
  test('places in the job, five decimals, an empty cell where there is none', () => {
    const item: Item<Points> = place(
      makePoints({ xyz: Float32Array.of(1, 2, 3, 4, 5, 6) }),
      'p',
      multiply(translation(10, 0, 0), fromRotationVector(0, 0, Math.PI / 2)),
    )
    const field: Field = { kind: 'field', values: Float32Array.of(0.125, NaN), unit: 'mm' }
    const lines = new TextDecoder()
      .decode(concat(writeFieldCsv(field, item)))
      .trim()
      .split('\n')
    expect(lines[0]).toBe('x_mm,y_mm,z_mm,deviation_mm')
    expect(lines[1].split(',').map(Number)).toEqual([8, 1, 3, 0.125])
    expect(lines[2]).toMatch(/,$/)
  })
  test('text of any chunk size reads the same', async () => {
    const text = 'x y z\n' + Array.from({ length: 50 }, (_, i) => `${i} ${i / 2} ${-i}`).join('\n')
    const all = await Promise.all(
      [1, 2, 7, 4096].map(async (chunk) => {
        const r = await runOperation('import', { file: [{ kind: 'file', source: textSource('p.csv', text, chunk) }] }, { unit: 'mm' }, quietContext)
        return [...(r.outputs['item'] as Item<Points>[])[0].data.xyz]
      }),
    )
    for (const a of all) expect(a).toEqual(all[0])
  })
})
