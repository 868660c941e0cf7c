import { describe, expect, test } from '@jest/globals'
import { strToU8, unzipSync, zipSync } from 'fflate'
import { OakError } from '../src/base/errors.ts'
import { seeded } from '../src/base/random.ts'
import { readAny, writeAny } from '../src/formats/index.ts'
import { triangulatePolygon } from '../src/formats/polygon.ts'
import { bytesSource, cursor, parseNumber } from '../src/formats/source.ts'
import { meshFacts } from '../src/measure/facts.ts'
import { makeMesh, type Mesh } from '../src/shape/mesh.ts'
import { makePoints, type Points } from '../src/shape/points.ts'
import { boxMesh, concat, oakError, sphereMesh, textSource } from './help.ts'

const ball = sphereMesh(20, 12)
const text = (s: string) => new TextEncoder().encode(s)
const ascii = {
  stl: () =>
    text(
      `solid ball\n${Array.from({ length: ball.triangles.length / 3 }, (_, i) => `facet normal 0 0 0\nouter loop\n${[0, 1, 2].map((k) => `vertex ${[0, 1, 2].map((d) => ball.vertices[3 * ball.triangles[3 * i + k] + d]).join(' ')}`).join('\n')}\nendloop\nendfacet`).join('\n')}\nendsolid ball\n`,
    ),
  ply: () =>
    text(
      `ply\nformat ascii 1.0\nelement vertex ${ball.vertices.length / 3}\nproperty float x\nproperty float y\nproperty float z\nelement face ${ball.triangles.length / 3}\nproperty list uchar int vertex_indices\nend_header\n${Array.from({ length: ball.vertices.length / 3 }, (_, i) => ball.vertices.subarray(3 * i, 3 * i + 3).join(' ')).join('\n')}\n${Array.from({ length: ball.triangles.length / 3 }, (_, i) => `3 ${ball.triangles.subarray(3 * i, 3 * i + 3).join(' ')}`).join('\n')}\n`,
    ),
}
const points = makePoints({ xyz: ball.vertices, normals: ball.vertices.map((v) => v / 20), viewpoint: [0, 0, 300] })
const files: [string, () => Uint8Array][] = [
  ['binary.stl', () => concat(writeAny('stl', ball, 'x'))],
  ['ascii.stl', ascii.stl],
  ['binary.ply', () => concat(writeAny('ply', ball, 'x'))],
  ['points.ply', () => concat(writeAny('ply', points, 'x'))],
  ['ascii.ply', ascii.ply],
  ['mesh.obj', () => concat(writeAny('obj', ball, 'x'))],
  ['points.xyz', () => concat(writeAny('xyz', points, 'x'))],
  ['mesh.3mf', () => concat(writeAny('3mf', ball, 'x'))],
]

describe('damaged files of every format', () => {
  test.each(files)(
    '%s, 150 times damaged by chance: read or refused with a clear word, never anything else',
    async (name, make) => {
      const whole = make()
      const r = seeded(name.length * 31)
      let refused = 0
      for (let k = 0; k < 150; k++) {
        let bytes = whole.slice()
        const kind = k % 3
        if (kind === 0) bytes = bytes.slice(0, r.below(bytes.length))
        else {
          // in the head as often as in the body
          const reach = kind === 1 ? Math.min(400, bytes.length) : bytes.length
          for (let n = 0; n < 1 + r.below(4); n++) bytes[r.below(reach)] = r.below(256)
        }
        try {
          const { data } = await readAny(bytesSource(name, bytes, 1000))
          const xyz = data.kind === 'mesh' ? data.vertices : data.xyz
          expect(xyz.length).toBeGreaterThan(0)
          if (data.kind === 'mesh') for (const v of data.triangles) if (!(v < xyz.length / 3)) throw new Error('index out of range')
        } catch (e) {
          if (!(e instanceof OakError)) throw e
          refused++
          expect([e.where.startsWith(name), e.message !== '', e.remedy !== '']).toEqual([true, true, true])
        }
      }
      expect(refused).toBeGreaterThan(10)
    },
    60_000,
  )
  test.each(files)('%s reads the same in chunks of any size', async (name, make) => {
    const whole = make()
    const read = async (chunk: number) => {
      const { data } = await readAny(bytesSource(name, whole, chunk))
      return data.kind === 'mesh' ? [...data.vertices, ...data.triangles] : [...data.xyz, ...(data.normals ?? [])]
    }
    const all = await read(1 << 20)
    for (const chunk of [1, 13, 4096]) expect(await read(chunk)).toEqual(all)
  })
})

describe('numbers in text', () => {
  test('are what the runtime makes of them, to the last bit', () => {
    const r = seeded(9)
    const written = [
      '0',
      '-0.0',
      '.5',
      '5.',
      '+3',
      '1e5',
      '1E-7',
      '-2.5e+3',
      '123456789012345678',
      '0.1',
      '1e22',
      '1e-22',
      '4.9e-324',
      '1.7976931348623157e308',
      ...Array.from({ length: 3000 }, () => String((r.next() - 0.5) * 10 ** (r.below(40) - 20))),
      ...Array.from({ length: 1000 }, () => (r.gauss() * 100).toFixed(r.below(9))),
    ]
    for (const w of written) {
      const b = text(`  ${w};`)
      expect(Object.is(parseNumber(b, 0, b.length), Number(w)) || parseNumber(b, 0, b.length) === Number(w)).toBe(true)
      expect(cursor.at).toBe(2 + w.length)
    }
  })
  test.each(['abc', '1.2.3', '--5', '1e', '0x', 'ten', '1,2,', '#'])('“%s” is no number, or ends before what is none', (w) => {
    const b = text(w)
    const v = parseNumber(b, 0, b.length)
    const first = w.split(/[,;]/)[0]
    if (Number.isNaN(Number(first)) || first === '') expect(v).toBeNaN()
    else expect(v).toBe(Number(first))
  })
})

describe('polygons', () => {
  const areaOf = (p: number[], t: number[]) => {
    const m = makeMesh({ vertices: Float32Array.from(p), triangles: Uint32Array.from(t) })
    return meshFacts(m).area
  }
  test('an L, a star, tilted in space: the whole area, no triangle outside, all one way', () => {
    const L = [0, 0, 0, 4, 0, 0, 4, 1, 0, 1, 1, 0, 1, 3, 0, 0, 3, 0]
    expect(areaOf(L, triangulatePolygon(L))).toBeCloseTo(6, 6)
    const star = Array.from({ length: 10 }, (_, i) => {
      const [a, r] = [(Math.PI * i) / 5, i % 2 ? 1 : 3]
      return [r * Math.cos(a), r * Math.sin(a), r * Math.cos(a) * 0.5]
    }).flat()
    // the star's own area 5 r R sin 36, times the slant of its plane
    expect(areaOf(star, triangulatePolygon(star))).toBeCloseTo(5 * 3 * Math.sin(Math.PI / 5) * Math.hypot(1, 0.5), 5)
    const back = [5, 4, 3, 2, 1, 0].flatMap((i) => L.slice(3 * i, 3 * i + 3))
    const n = (p: number[], t: number[]) =>
      (p[3 * t[1]] - p[3 * t[0]]) * (p[3 * t[2] + 1] - p[3 * t[0] + 1]) - (p[3 * t[1] + 1] - p[3 * t[0] + 1]) * (p[3 * t[2]] - p[3 * t[0]])
    const [up, down] = [triangulatePolygon(L), triangulatePolygon(back)]
    for (let i = 0; i < up.length; i += 3) {
      expect(n(L, up.slice(i, i + 3))).toBeGreaterThan(0)
      expect(n(back, down.slice(i, i + 3))).toBeLessThan(0)
    }
  })
})

describe('what files of other makers hold', () => {
  const read = async (name: string, s: string) => readAny(textSource(name, s))
  test('OBJ: relative numbers, textures and normals, a face over two lines, colours', async () => {
    const r = await read('a.obj', 'v 0 0 0 1 0 0\nv 9 0 0 0 1 0\nv 0 9 0 0 0 1\nvt 0 0\nvn 0 0 1\nf -3/1/1 \\\n -2/1/1 -1/1/1\n')
    const m = r.data as Mesh
    expect([...m.triangles]).toEqual([0, 1, 2])
    expect([...(m.colours as Uint8Array)]).toEqual([255, 0, 0, 0, 255, 0, 0, 0, 255])
    expect((await oakError(read('b.obj', 'v 0 0 0\nf 1 2 3\n'))).where).toContain('line 2')
  })
  test('PLY: quads, more properties than are needed, a comment, lists of other lengths', async () => {
    const r = await read(
      'a.ply',
      'ply\nformat ascii 1.0\ncomment by hand\nelement vertex 4\nproperty double x\nproperty double y\nproperty double z\nproperty float quality\nelement face 1\nproperty list uchar int vertex_index\nelement edge 1\nproperty int a\nend_header\n0 0 0 .5\n4 0 0 .5\n4 4 0 .5\n0 4 0 .5\n4 0 1 2 3\n7\n',
    )
    expect(meshFacts(r.data as Mesh).area).toBe(16)
  })
  test('point text: columns by name in any order, colours from 0 to 1, unit normals told from colours', async () => {
    const named = (await read('a.csv', 'r,g,b,z,y,x\n1,0,0.5,30,20,10\n0,1,0.25,3,2,1\n')).data as Points
    expect([...named.xyz]).toEqual([10, 20, 30, 1, 2, 3])
    expect([...(named.colours as Uint8Array)]).toEqual([255, 0, 128, 0, 255, 64])
    const plain = (await read('b.asc', '2\n1 2 3 0 0 1 255 128 0\n4 5 6 0 1 0 1 2 3\n')).data as Points
    expect([...(plain.normals as Float32Array)]).toEqual([0, 0, 1, 0, 1, 0])
    expect([...(plain.colours as Uint8Array)]).toEqual([255, 128, 0, 1, 2, 3])
    const short = await oakError(read('c.xyz', '1 2 3\n4 5\n'))
    expect([short.code, short.where]).toEqual(['bad-line', 'c.xyz, line 2'])
  })
  test('STL: two solids in one file, words in capitals, bytes behind the last triangle', async () => {
    const one = (x: number) => `SOLID a\nFACET NORMAL 0 0 1\nOUTER LOOP\nVERTEX ${x} 0 0\nVERTEX ${x + 1} 0 0\nVERTEX ${x} 1 0\nENDLOOP\nENDFACET\nENDSOLID a\n`
    expect((await read('two.stl', one(0) + one(5))).data).toMatchObject({ triangles: Uint32Array.of(0, 1, 2, 3, 4, 5) })
    const longer = await readAny(bytesSource('l.stl', concat([...writeAny('stl', boxMesh(1, 1, 1), 'x'), new Uint8Array(7)])))
    expect(longer.warnings.join()).toContain('7 bytes')
    expect((await oakError(read('bad.stl', one(0).replace('VERTEX 0 1 0\n', '')))).code).toBe('bad-facet')
  })
})

describe('3MF', () => {
  const model = (resources: string, build: string, unit = 'millimeter') =>
    zipSync({
      '3D/3dmodel.model': strToU8(
        `<?xml version="1.0"?><model unit="${unit}" xmlns="http://schemas.microsoft.com/3dmanufacturing/core/2015/02"><resources>${resources}</resources><build>${build}</build></model>`,
      ),
    })
  const box = () => {
    const b = boxMesh(1, 2, 3)
    const v = Array.from({ length: 8 }, (_, i) => `<vertex x="${b.vertices[3 * i]}" y="${b.vertices[3 * i + 1]}" z="${b.vertices[3 * i + 2]}"/>`).join('')
    const t = Array.from({ length: 12 }, (_, i) => `<triangle v1="${b.triangles[3 * i]}" v2="${b.triangles[3 * i + 1]}" v3="${b.triangles[3 * i + 2]}"/>`).join(
      '',
    )
    return `<object id="1" type="model"><mesh><vertices>${v}</vertices><triangles>${t}</triangles></mesh></object>`
  }
  test('components and build items are placed by their transforms, innermost first; the unit is told', async () => {
    const assembly = `${box()}<object id="2"><components><component objectid="1"/><component objectid="1" transform="1 0 0 0 1 0 0 0 1 10 0 0"/></components></object>`
    const r = await readAny(bytesSource('a.3mf', model(assembly, '<item objectid="2" transform="2 0 0 0 2 0 0 0 2 0 0 100"/>', 'inch')))
    const facts = meshFacts(r.data as Mesh)
    expect(r.unit).toBe('in')
    expect([facts.topology.components, facts.volume]).toEqual([2, 2 * 6 * 8])
    expect([...facts.box].map((v) => Math.round(v))).toEqual([0, 0, 100, 22, 4, 106])
  })
  test('objects that contain each other, or are not there', async () => {
    const circle =
      '<object id="1"><components><component objectid="2"/></components></object><object id="2"><components><component objectid="1"/></components></object>'
    expect((await oakError(readAny(bytesSource('c.3mf', model(circle, '<item objectid="1"/>'))))).message).toContain('contain each other')
    expect((await oakError(readAny(bytesSource('d.3mf', model(box(), '<item objectid="9"/>'))))).message).toContain('Object 9')
  })
  test('a few objects that multiply to billions are refused at once', async () => {
    const layers = Array.from(
      { length: 12 },
      (_, k) => `<object id="${k + 2}"><components>${`<component objectid="${k + 1}"/>`.repeat(10)}</components></object>`,
    ).join('')
    const before = process.memoryUsage().rss
    const e = await oakError(readAny(bytesSource('bomb.3mf', model(box() + layers, '<item objectid="13"/>'))))
    expect(e.code).toBe('zip-bomb')
    expect(process.memoryUsage().rss - before).toBeLessThan(500_000_000)
  })
  test('a document type in the model is refused; the archive is as the standard wants it', async () => {
    const evil = zipSync({ '3D/3dmodel.model': strToU8('<?xml version="1.0"?><!DOCTYPE model [<!ENTITY a "b">]><model/>') })
    expect((await oakError(readAny(bytesSource('e.3mf', evil)))).message).toContain('document type')
    const names = Object.keys(unzipSync(concat(writeAny('3mf', boxMesh(1, 1, 1), 'x'))))
    expect(names).toEqual(['[Content_Types].xml', '_rels/.rels', '3D/3dmodel.model'])
  })
})
