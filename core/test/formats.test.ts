import { describe, expect, test } from '@jest/globals'
import { readFileSync } from 'node:fs'
import { zipSync, strToU8 } from 'fflate'
import { f32, u32, u8 } from '../src/base/arrays.ts'
import { lostIn, readAny, writeAny, type WritableFormat } from '../src/formats/index.ts'
import { unitInComment } from '../src/formats/imported.ts'
import { bytesSource } from '../src/formats/source.ts'
import { meshFacts } from '../src/measure/facts.ts'
import { makeMesh, type Mesh } from '../src/shape/mesh.ts'
import { makePoints, type Points } from '../src/shape/points.ts'
import { topology } from '../src/shape/topology.ts'
import { boxMesh, concat, fixture, fixtureJson, fixtureSource, oakError, textSource } from './help.ts'

const mesh = async (file: string) => (await readAny(fixtureSource(file))).data as Mesh

describe('public test models (Debian assimp-testmodels, BSD-3-Clause; areas and volumes by numpy and Open3D 0.16.1)', () => {
  const ref = fixtureJson('meshes/reference.json').meshes
  test.each(Object.keys(ref).filter((k) => ['Helix.stl', 'hinge.stl', 'part1.stl', 'Helix.3mf'].includes(k)))('%s', async (name) => {
    const facts = meshFacts(await mesh(`meshes/${name}`))
    const r = ref[name]
    expect(facts.triangles).toBe(r.triangles)
    expect(Math.abs(facts.area / r.area - 1)).toBeLessThan(1e-6)
    expect(Math.abs(facts.volume / r.signed_volume - 1)).toBeLessThan(1e-6)
    expect(facts.topology.openEdges).toBe(r.boundary_edges)
    expect(facts.topology.components).toBe(r.components)
  })
  const strange = fixtureJson('robustness/reference.json').files
  test.each(['Spider_ascii.stl', 'Spider_binary.stl', 'cube.ply', 'cube_binary.ply', 'box_without_lineending.obj'])(
    'strange but readable: %s',
    async (name) => {
      const read = await readAny(fixtureSource(`robustness/${name}`))
      const m = read.data as Mesh
      const r = strange[name]
      // triangles without area are left out, and said
      expect(m.triangles.length / 3).toBe(r.triangles - r.degenerate_index_triangles)
      if (r.degenerate_index_triangles) expect(read.warnings.join(' ')).toMatch(new RegExp(String(r.degenerate_index_triangles)))
    },
  )
  test.each(['empty.ply', 'empty.obj', 'malformed.obj'])('refused with a clear word: %s', async (name) => {
    const e = await oakError(readAny(fixtureSource(`robustness/${name}`)))
    expect(e.where).toContain(name)
    expect(e.remedy).not.toBe('')
  })
  test('the bunny of the package registry (npm bunny: area 218.689271, volume 194.288368, computed)', async () => {
    const url = new URL('../../node_modules/bunny/index.js', import.meta.url)
    const b = ((await import(url.href)) as { default: { positions: number[][]; cells: number[][] } }).default
    const text = [...b.positions.map((p) => `v ${p.join(' ')}`), ...b.cells.map((c) => `f ${c.map((i) => i + 1).join(' ')}`)].join('\n')
    const facts = meshFacts((await readAny(textSource('bunny.obj', text, 4001))).data as Mesh)
    expect(facts.triangles).toBe(3674)
    expect(facts.area).toBeCloseTo(218.689271, 3)
    expect(facts.volume).toBeCloseTo(194.288368, 3)
  })
})

describe('what is written reads back', () => {
  test.each<Exclude<WritableFormat, 'xyz'>>(['ply', 'stl', 'obj', '3mf'])('a mesh as %s', async (format) => {
    const back = (await readAny(bytesSource(`x.${format}`, concat(writeAny(format, boxMesh(10, 20, 30), 'box'))))).data as Mesh
    const facts = meshFacts(back)
    expect([facts.volume, facts.area, facts.topology.openEdges]).toEqual([6000, 2200, 0])
  })
  test('points with normals, colours and the scanner’s place as PLY and XYZ', async () => {
    const n = 500
    const points = makePoints({
      xyz: f32(3 * n).map((_, i) => Math.fround(i * 0.37)),
      normals: f32(3 * n).map((_, i) => (i % 3 === 2 ? 1 : 0)),
      viewpoint: [1, 2, 300],
    })
    const ply = (await readAny(bytesSource('p.ply', concat(writeAny('ply', points, 'x'))))).data as Points
    expect([...ply.xyz]).toEqual([...points.xyz])
    expect(ply.viewpoint).toEqual([1, 2, 300])
    const xyz = (await readAny(bytesSource('p.xyz', concat(writeAny('xyz', points, 'x'))))).data as Points
    expect(Math.max(...xyz.xyz.map((v, i) => Math.abs(v - points.xyz[i])))).toBeLessThan(1e-4)
    expect(xyz.normals?.[2]).toBe(1)
  })
  test('point text as people write it: comments, semicolons, decimal commas, a heading', async () => {
    const cases: [string, string, number[]][] = [
      ['a.xyz', '# made by hand\n1 2 3\n4\t5\t6\n', [1, 2, 3, 4, 5, 6]],
      ['b.csv', 'x,y,z\n1.5,2,3\n-4,5e1,.6\n', [1.5, 2, 3, -4, 50, 0.6]],
      ['c.asc', '1,5;2;3\n4;5;6,25\n', [1.5, 2, 3, 4, 5, 6.25]],
      ['d.xyz', '1,5 2,25 3\n-4 5,5 6,0\n', [1.5, 2.25, 3, -4, 5.5, 6]],
      ['e.xyz', '1,2,3\n4,5,6\n', [1, 2, 3, 4, 5, 6]],
      ['f.xyz', '1, 2, 3\n4, 5, 6\n', [1, 2, 3, 4, 5, 6]],
      ['mark.xyz', '\ufeff1 2 3\n4 5 6\n', [1, 2, 3, 4, 5, 6]],
      ['old.xyz', '1 2 3\r4 5 6\r', [1, 2, 3, 4, 5, 6]],
      ['crlf.xyz', '1 2 3\r\n4 5 6\r\n', [1, 2, 3, 4, 5, 6]],
    ]
    for (const [name, text, want] of cases) {
      const p = (await readAny(textSource(name, text))).data as Points
      expect([name, ...[...p.xyz].map((v) => Math.round(v * 1e5) / 1e5)]).toEqual([name, ...want])
    }
  })
  test('a PLY that promises billions of elements without any property is refused, at once', async () => {
    const text =
      'ply\nformat ascii 1.0\nelement vertex 1\nproperty float x\nproperty float y\nproperty float z\nelement ghost 9007199254740991\nend_header\n1 2 3\n'
    const e = await oakError(readAny(textSource('ghost.ply', text)))
    expect([e.code, e.message.includes('ghost')]).toEqual(['bad-header', true])
  })
  test('big-endian PLY', async () => {
    const head = new TextEncoder().encode(
      'ply\nformat binary_big_endian 1.0\nelement vertex 2\nproperty double x\nproperty double y\nproperty double z\nend_header\n',
    )
    const body = new DataView(new ArrayBuffer(48))
    ;[1, 2, 3, -4, 5.5, 6].forEach((v, i) => body.setFloat64(8 * i, v))
    const p = (await readAny(bytesSource('be.ply', concat([head, new Uint8Array(body.buffer)])))).data as Points
    expect([...p.xyz]).toEqual([1, 2, 3, -4, 5.5, 6])
  })
})

describe('bad input', () => {
  const stl = () => concat(writeAny('stl', boxMesh(10, 10, 10), 'x'))
  const ply = 'ply\nformat ascii 1.0\nelement vertex 3\nproperty float x\nproperty float y\nproperty float z\nend_header\n0 0 0\n1 0 0\n'
  test.each<[string, () => Uint8Array, string]>([
    ['truncated.stl', () => stl().slice(0, 300), 'truncated'],
    ['truncated.ply', () => new TextEncoder().encode(ply), 'truncated'],
    ['empty.stl', () => new Uint8Array(0), 'empty'],
    ['lying.ply', () => new TextEncoder().encode(ply.replace('vertex 3', 'vertex 9000000000')), ''],
    [
      'lying.stl',
      () => {
        const b = stl()
        new DataView(b.buffer).setUint32(80, 3_000_000_000, true)
        return b
      },
      '',
    ],
    ['nonsense.ply', () => new TextEncoder().encode('ply\nformat poetry 1.0\nend_header\n'), ''],
    ['words.xyz', () => new TextEncoder().encode('once upon a time\n'), ''],
    ['all.nan.xyz', () => new TextEncoder().encode('NaN NaN NaN\nNaN NaN NaN\n'), ''],
    ['cut.step', () => fixture('cad/cube-mm.step').slice(0, 4000), 'truncated'],
    ['notes.docx', () => new TextEncoder().encode('PKnot really'), 'unknown-format'],
    ['notzip.3mf', () => new TextEncoder().encode('this is no archive'), ''],
  ])('%s', async (name, bytes, code) => {
    const e = await oakError(readAny(bytesSource(name, bytes(), 1000)))
    if (code) expect(e.code).toBe(code)
    expect(e.where).toContain(name)
    expect(e.message.length).toBeGreaterThan(10)
    expect(e.remedy.length).toBeGreaterThan(5)
  })
  test('a zip bomb in a 3MF is stopped long before it fills the memory', async () => {
    const bomb = zipSync({ '3D/3dmodel.model': [new Uint8Array(300_000_000).fill(32), { level: 9 }] })
    expect(bomb.length).toBeLessThan(1_000_000)
    const before = process.memoryUsage().rss
    const e = await oakError(readAny(bytesSource('bomb.3mf', bomb)))
    expect(e.where).toContain('bomb.3mf')
    expect(process.memoryUsage().rss - before).toBeLessThan(400_000_000)
  }, 60_000)
  test('a file without a model in it', async () => {
    expect((await oakError(readAny(bytesSource('x.3mf', zipSync({ 'readme.txt': strToU8('hello') }))))).where).toContain('x.3mf')
  })
  test('a wrong ending does no harm, and is mentioned', async () => {
    const r = await readAny(bytesSource('box.obj', concat(writeAny('ply', boxMesh(1, 1, 1), 'x'))))
    expect(r.format).toBe('ply')
    expect(r.warnings.join(' ')).toContain('.obj')
  })
  test('single NaN points and doubled triangles are left out, and counted', async () => {
    const p = await readAny(textSource('some.xyz', '0 0 0\nNaN 1 2\n1 1 1\n2 2 2\n'))
    expect((p.data as Points).xyz.length).toBe(9)
    expect(p.warnings.join(' ')).toContain('1')
  })
  test('vertices without numbers go with their triangles, and are counted; those behind them keep their corners', async () => {
    const text = 'v nan 0 0\nv 0 0 0\nv 10 0 0\nv 0 10 0\nv 10 10 0\nf 1 2 3\nf 2 3 4\nf 3 5 4\n'
    const { data, warnings } = await readAny(textSource('a.obj', text))
    const m = data as Mesh
    expect([...m.vertices]).toEqual([0, 0, 0, 10, 0, 0, 0, 10, 0, 10, 10, 0])
    expect([...m.triangles]).toEqual([0, 1, 2, 1, 3, 2])
    expect(warnings.join()).toContain('1 of 5 points had no numbers')
  })
  test('a cube whose vertices are parted along its edges is closed; its colours come along', async () => {
    const box = boxMesh(10, 20, 30)
    // each triangle with corners of its own, as exporters with normals for each face write them
    const apart = makeMesh({
      vertices: f32(3 * box.triangles.length).map((_, i) => box.vertices[3 * box.triangles[Math.floor(i / 3)] + (i % 3)]),
      triangles: u32(box.triangles.length).map((_, i) => i),
      colours: u8(3 * box.triangles.length).fill(77),
    })
    for (const format of ['ply', 'obj', '3mf'] as const) {
      const { data, warnings } = await readAny(bytesSource(`cube.${format}`, concat(writeAny(format, apart, 'x'))))
      const m = data as Mesh
      expect([format, topology(m).closed, m.vertices.length / 3, meshFacts(m).volume]).toEqual([format, true, 8, 6000])
      expect(warnings.join()).toContain('28 vertices lay at the very place of another')
      if (format !== '3mf') expect([...(m.colours as Uint8Array)]).toEqual(new Array(24).fill(77))
    }
  })
  test('an edge of three triangles is one edge', () => {
    const fan = makeMesh({ vertices: Float32Array.of(0, 0, 0, 0, 0, 10, 10, 0, 0, 0, 10, 0, -10, 0, 0), triangles: Uint32Array.of(0, 1, 2, 0, 1, 3, 0, 1, 4) })
    expect(topology(fan).nonManifoldEdges).toBe(1)
  })
  test('what was filled in is still told apart after a round through PLY', async () => {
    const box = boxMesh(10, 20, 30)
    const flags = u8(12)
    flags[3] = flags[7] = 1
    const { data } = await readAny(bytesSource('a.ply', concat(writeAny('ply', makeMesh({ ...box, unmeasured: flags }), 'x'))))
    expect([...((data as Mesh).unmeasured as Uint8Array)]).toEqual([...flags])
    // a face of four corners counts for both of its triangles
    const text = `ply\nformat ascii 1.0\nelement vertex 5\nproperty float x\nproperty float y\nproperty float z\nelement face 2\nproperty list uchar int vertex_indices\nproperty uchar not_measured\nend_header\n0 0 0\n1 0 0\n1 1 0\n0 1 0\n2 0 0\n4 0 1 2 3 1\n3 1 4 2 0\n`
    expect([...((await readAny(textSource('q.ply', text))).data as Mesh & { unmeasured: Uint8Array }).unmeasured]).toEqual([1, 1, 0])
    expect(((await readAny(textSource('n.ply', text.replace('3 1\n', '3 0\n')))).data as Mesh).unmeasured).toBeUndefined()
  })
  test.each([
    ['stl', 'mm'],
    ['ply', 'mm'],
    ['obj', 'mm'],
    ['3mf', 'mm'],
  ] as const)('%s says its unit when it comes back', async (format, unit) => {
    expect(
      (
        await readAny(
          bytesSource(
            `a.${format}`,
            concat(writeAny(format, boxMesh(10, 20, 30), 'a part with a name that is longer than an STL has room for in its eighty bytes')),
          ),
        )
      ).unit,
    ).toBe(unit)
  })
  test('units as others write them, and what only looks like one', () => {
    expect(
      ['unit: inches', 'Units = millimeters', 'UNIT mm', 'units:um', 'units m', 'Units in metres', 'unit in', 'units are in mm'].map(unitInComment),
    ).toEqual(['in', 'mm', 'mm', 'um', 'm', 'm', 'in', 'mm'])
    expect(['united', 'a unit of measure', 'unit', 'no word'].map(unitInComment)).toEqual([undefined, undefined, undefined, undefined])
  })
  test('a table with the unit in its heading, as deviations are written, is read with it', async () => {
    const r = await readAny(textSource('d.csv', 'x_mm,y_mm,z_mm,deviation_mm\n1,2,3,0.01\n4,5,6,0.02\n7,8,9,\n'))
    expect([r.unit, [...(r.data as Points).xyz]]).toEqual(['mm', [1, 2, 3, 4, 5, 6, 7, 8, 9]])
    expect(r.warnings.join()).toContain('deviation_mm')
  })
  test('colour that cannot be kept is told to be lost', async () => {
    const stl = concat(writeAny('stl', boxMesh(10, 20, 30), 'x'))
    stl[84 + 48] = 31
    expect((await readAny(bytesSource('c.stl', stl))).warnings.join()).toContain('1 triangles carry a colour')
    expect((await readAny(textSource('c.obj', 'mtllib a.mtl\nusemtl red\nv 0 0 0\nv 1 0 0\nv 0 1 0\nf 1 2 3\n'))).warnings.join()).toContain('lost')
    const ply =
      'ply\nformat ascii 1.0\nelement vertex 3\nproperty float x\nproperty float y\nproperty float z\nelement face 1\nproperty list uchar int vertex_indices\nproperty uchar red\nend_header\n0 0 0\n1 0 0\n0 1 0\n3 0 1 2 9\n'
    expect((await readAny(textSource('c.ply', ply))).warnings.join()).toContain('only colours of vertices')
  })
  test('what a format has no place for is known before it is written', () => {
    const box = boxMesh(10, 20, 30)
    const rich = makeMesh({ ...box, colours: u8(24), unmeasured: u8(12) })
    expect((['ply', 'obj', 'stl', '3mf'] as const).map((f) => lostIn(f, rich).length)).toEqual([0, 1, 2, 2])
    expect(lostIn('stl', box)).toEqual([])
    expect(lostIn('xyz', makePoints({ xyz: f32(30), colours: u8(30), viewpoint: [0, 0, 300] }))).toEqual(['where the scanner stood'])
  })
  test('colours of points go out as text and come back', async () => {
    const points = makePoints({ xyz: f32(30).map((_, i) => i / 8), colours: u8(30).map((_, i) => 8 * i) })
    const { data } = await readAny(bytesSource('p.xyz', concat(writeAny('xyz', points, 'x'))))
    expect([...((data as Points).colours as Uint8Array)]).toEqual([...(points.colours as Uint8Array)])
  })
  test('the fixtures stay small', () => {
    expect(readFileSync(new URL('./fixtures/NOTICE', import.meta.url), 'utf8')).toContain('BSD-3-Clause')
  })
})
