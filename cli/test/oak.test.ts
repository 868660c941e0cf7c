import { describe, expect, test } from '@jest/globals'
import { spawn, spawnSync } from 'node:child_process'
import { existsSync, mkdtempSync, readdirSync, readFileSync, writeFileSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { fileURLToPath } from 'node:url'

const program = fileURLToPath(new URL('../../.build/oak.js', import.meta.url))
const fixtures = fileURLToPath(new URL('../../core/test/fixtures/', import.meta.url))
const folder = mkdtempSync(join(tmpdir(), 'oak-'))
const oak = (...args: string[]) => {
  const r = spawnSync(process.execPath, [program, ...args], { encoding: 'utf8', env: { ...process.env, NODE_OPTIONS: '' } })
  return { code: r.status, out: r.stdout, err: r.stderr }
}

/** Points of a ball with normals, as point text. */
function ball(r: number, n: number, shift: number): string {
  const lines: string[] = []
  for (let i = 0; i < n; i++) {
    const z = 1 - (2 * i + 1) / n
    const a = i * Math.PI * (3 - Math.sqrt(5))
    const s = Math.sqrt(1 - z * z)
    const d = [s * Math.cos(a), s * Math.sin(a), z]
    lines.push([...d.map((v) => r * v + shift), ...d].map((v) => v.toFixed(5)).join(' '))
  }
  return lines.join('\n')
}

describe('./oak without server or database', () => {
  test('lists and describes', () => {
    const list = oak('list')
    expect(list.code).toBe(0)
    expect(list.out).toContain('merge')
    const merge = JSON.parse(oak('describe', 'merge').out) as { settings: { properties: Record<string, { description: string }> } }
    expect(merge.settings.properties['cell']?.description).toContain('mm')
    expect(oak().code).toBe(2)
    expect(oak('dance').code).toBe(2)
  })
  test('an operation on a file: evidence as JSON (Helix.stl: area 23574.963, volume 108196.544 by Open3D 0.16.1)', () => {
    const r = oak('run', 'facts', '--in', `mesh=${fixtures}meshes/Helix.stl`, '--json')
    expect(r.code).toBe(0)
    const text = JSON.stringify(JSON.parse(r.out))
    const of = (name: string) => Number(new RegExp(`"name":"${name}","value":([\\d.]+)`).exec(text)?.[1])
    expect(of('area')).toBeCloseTo(23574.963, 1)
    expect(of('volume')).toBeCloseTo(108196.544, 0)
    expect(of('open edges')).toBe(0)
  })
  test('a recipe runs on one part and on the next', () => {
    const recipe = join(folder, 'ball.json')
    writeFileSync(
      recipe,
      JSON.stringify({
        oakGauge: 'recipe',
        version: 1,
        title: 'ball',
        inputs: { passes: { about: 'passes', many: true } },
        steps: [
          { operation: 'merge', inputs: { passes: ['passes'] }, params: { cell: 1 }, outputs: { mesh: 'mesh' } },
          { operation: 'facts', inputs: { mesh: ['mesh'] } },
        ],
        deliver: [{ item: 'mesh', file: 'mesh.stl', format: 'stl' }],
      }),
    )
    for (const shift of [0, 30]) {
      const file = join(folder, `ball${shift}.xyz`)
      writeFileSync(file, ball(15, 6000, shift))
      const out = join(folder, `out${shift}`)
      const r = oak('run', recipe, '--in', `passes=${file}`, '--out', out, '--json')
      expect([r.code, r.err.includes('internal')]).toEqual([0, false])
      expect(existsSync(join(out, 'mesh.stl'))).toBe(true)
      const stl = readFileSync(join(out, 'mesh.stl'))
      expect(stl.length).toBe(84 + 50 * stl.readUInt32LE(80))
    }
  })
  test('what is at fault says what, where and what to do', () => {
    const missing = oak('run', 'facts', '--in', `mesh=${folder}/none.stl`)
    expect(missing.code).toBe(1)
    expect(missing.err).toContain('none.stl')
    writeFileSync(join(folder, 'bad.ply'), 'ply\nformat ascii 1.0\nelement vertex 9\nproperty float x\nproperty float y\nproperty float z\nend_header\n0 0 0\n')
    const bad = oak('run', 'strays', '--in', `passes=${folder}/bad.ply`)
    expect(bad.code).toBe(1)
    expect(bad.err).toContain('bad.ply')
    // a recipe that delivers needs a folder: a wrong call; one without its inputs says which
    expect(oak('run', join(folder, 'ball.json')).code).toBe(2)
    const recipe = oak('run', join(folder, 'ball.json'), '--out', folder)
    expect(recipe.code).toBe(1)
    expect(recipe.err).toContain('passes')
  })
  test('files change their form: an inch STL becomes a 3MF in millimetres, points keep their normals', () => {
    const out = join(folder, 'converted')
    const r = oak('run', 'facts', '--in', `mesh=${fixtures}cad/plate_holes_dev.stl`, '--unit', 'in', '--json')
    expect(JSON.stringify(JSON.parse(r.out))).toContain('"name":"size x","value":2540')
    const reduced = oak('run', 'reduce', '--in', `mesh=${fixtures}cad/plate_holes_dev.stl`, '--set', 'deviation=0.05', '--format', '3mf', '--out', out)
    expect([reduced.code, reduced.err.includes('wrote')]).toEqual([0, true])
    const again = oak('run', 'facts', '--in', `mesh=${out}/mesh.3mf`, '--json')
    const size = /"name":"size x","value":([\d.]+)/.exec(JSON.stringify(JSON.parse(again.out)))
    expect(Number(size?.[1])).toBeCloseTo(100, 2)
    const sampled = oak('run', 'sample', '--in', `mesh=${out}/mesh.3mf`, '--set', 'count=500', '--out', out)
    expect(sampled.code).toBe(0)
    expect(readFileSync(join(out, 'points.ply'), 'latin1')).toContain('property float nx')
    const text = oak('run', 'thin', '--in', `passes=${out}/points.ply`, '--set', 'size=5', '--format', 'xyz', '--out', out)
    expect(text.code).toBe(0)
    expect(readFileSync(join(out, 'passes.xyz'), 'utf8').split('\n')[0].split(' ')).toHaveLength(6)
  })
  test('a table of deviations: one line for each vertex of the part', () => {
    const out = join(folder, 'map')
    const r = oak(
      'run',
      'deviation',
      '--in',
      `measured=${fixtures}cad/plate_holes_dev.stl`,
      '--in',
      `nominal=${fixtures}cad/plate_holes_dev.step`,
      '--set',
      'limit=0.2',
      '--out',
      out,
    )
    expect(r.code).toBe(0)
    // numbers for people, with their units
    expect(r.out).toMatch(/within 0\.2 mm: 100\.0 %/)
    const lines = readFileSync(join(out, 'field.csv'), 'utf8').trim().split('\n')
    expect([lines[0], lines.length]).toEqual(['x_mm,y_mm,z_mm,deviation_mm', 3772 + 1])
  })
  test('markers: a recording becomes a map as a list, and lists bring passes together by a recipe', () => {
    const out = join(folder, 'markers')
    const places = [0, 0, 0, 61, 4, 0, 18, 55, 3, 80, 62, 0, -44, 30, 0, -20, -52, 2]
    // seen from straight above, from four places beside each other
    const lines = ['frame,x,y,z,d']
    for (let f = 0; f < 24; f++)
      for (let i = 0; i < places.length; i += 3) lines.push([f, places[i] + 3 * f, -places[i + 1] + 2 * f, 400 - places[i + 2], 6].join(','))
    const frames = join(folder, 'frames.csv')
    writeFileSync(frames, lines.join('\n'))
    const mapped = oak('run', 'map-markers', '--in', `file=${frames}`, '--out', out, '--json')
    expect([mapped.code, mapped.err.includes('wrote')]).toEqual([0, true])
    const map = readFileSync(join(out, 'map.csv'), 'utf8').trim().split('\n')
    expect(map).toHaveLength(7)
    const list = (name: string, shift: number) => {
      const path = join(folder, name)
      writeFileSync(path, places.flatMap((_, i) => (i % 3 === 0 ? [`${i / 3 + 1} ${places[i] + shift} ${places[i + 1]} ${places[i + 2]}`] : [])).join('\n'))
      return path
    }
    const pass = join(folder, 'pass.xyz')
    writeFileSync(pass, ball(20, 2000, 0))
    const recipe = join(folder, 'join.json')
    writeFileSync(
      recipe,
      JSON.stringify({
        oakGauge: 'recipe',
        version: 1,
        inputs: { a: {}, b: {}, passes: { many: true } },
        steps: [{ operation: 'join-markers', inputs: { anchor: ['a'], loose: ['b'], passes: ['passes'] } }],
        deliver: [{ item: 'passes', file: 'moved.xyz', format: 'xyz' }],
      }),
    )
    const r = oak('run', recipe, '--in', `a=${list('a.txt', 0)}`, '--in', `b=${list('b.txt', 100)}`, '--in', `passes=${pass}`, '--out', out)
    expect([r.code, r.err.match(/wrote/g)?.length]).toEqual([0, 1])
    const moved = readFileSync(join(out, 'moved.xyz'), 'utf8').trim().split('\n')
    const x = moved.map((l) => Number(l.split(' ')[0]))
    expect((Math.min(...x) + Math.max(...x)) / 2).toBeCloseTo(-100, 0)
  })
  test('the same on one thread and on all', () => {
    const file = join(folder, 'ball.xyz')
    writeFileSync(file, ball(15, 6000, 0))
    const run = (threads: string, out: string) =>
      oak('run', 'merge', '--in', `passes=${file}`, '--set', 'cell=1', '--threads', threads, '--out', join(folder, out)).code
    expect([run('1', 'one'), run('2', 'two')]).toEqual([0, 0])
    expect(readFileSync(join(folder, 'one/mesh.stl')).equals(readFileSync(join(folder, 'two/mesh.stl')))).toBe(true)
  })
  test('wrong calls end with 2 and say how to call, wrong settings with 1 and name them', () => {
    expect(oak('run', 'facts', '--in', 'mesh').code).toBe(2)
    expect(oak('run', 'facts', '--colour', 'red').code).toBe(2)
    expect(oak('run', 'thin', '--set', 'size').code).toBe(2)
    expect(oak('describe').code).toBe(2)
    const unknown = oak('describe', 'polish')
    expect([unknown.code, unknown.err.includes('Known are')]).toEqual([1, true])
    const wrong = oak('run', 'thin', '--in', `passes=${join(folder, 'ball.xyz')}`, '--set', 'size=-2')
    expect([wrong.code, wrong.err.includes('thin, size')]).toEqual([1, true])
    writeFileSync(join(folder, 'broken.json'), '{"oakGauge": ')
    const broken = oak('run', join(folder, 'broken.json'))
    expect([broken.code, broken.err.includes('broken.json')]).toEqual([1, true])
    expect(oak('--help').out).toContain('oak describe OPERATION')
  })
  test('interrupted, it stops and ends with 130; nothing half written is left', async () => {
    // it says when it listens: however slow the machine, it is not interrupted before
    const listens = "process.on('newListener', (what) => what === 'SIGINT' && setImmediate(() => process.stderr.write('listens')))"
    const child = spawn(
      process.execPath,
      [
        ...['--import', `data:text/javascript,${encodeURIComponent(listens)}`],
        ...[program, 'run', 'sample', '--in', `mesh=${fixtures}meshes/hinge.stl`, '--set', 'count=20000000', '--out', join(folder, 'stopped')],
      ],
      { env: { ...process.env, NODE_OPTIONS: '' } },
    )
    await new Promise<void>((resolve) => child.stderr.on('data', (d: Buffer) => d.includes('listens') && resolve()))
    child.kill('SIGINT')
    child.kill('SIGINT')
    const code = await new Promise((resolve) => child.on('exit', resolve))
    const out = join(folder, 'stopped')
    expect([code, existsSync(out) ? readdirSync(out) : []]).toEqual([130, []])
  })
})

describe('./oak link-check', () => {
  const standIn = fileURLToPath(new URL('../../.build/standin.js', import.meta.url))
  test('says of a stand-in that it keeps the link', async () => {
    const child = spawn(process.execPath, [standIn, 'alder', '0'], { env: { ...process.env, NODE_OPTIONS: '', OAK_WARM: 'yes' } })
    try {
      const address = await new Promise<string>((resolve) => child.stdout.on('data', (d: Buffer) => resolve(/ws:\/\/\S+/.exec(d.toString())?.[0] ?? '')))
      const r = oak('link-check', address)
      expect([r.code, r.out.split('\n').filter((l) => l.startsWith('BROKEN'))]).toEqual([0, []])
      expect(r.out).toContain('The scanner keeps the link.')
    } finally {
      child.kill()
    }
  }, 60_000)
  test('ends with 1 where nothing answers, with 2 without an address', () => {
    const r = oak('link-check', 'ws://127.0.0.1:9')
    expect([r.code, r.out]).toEqual([1, expect.stringContaining('No scanner answers at this address.')])
    expect(oak('link-check').code).toBe(2)
  })
  test('a stand-in that does not exist says which there are', () => {
    const r = spawnSync(process.execPath, [standIn, 'willow'], { encoding: 'utf8', env: { ...process.env, NODE_OPTIONS: '' } })
    expect([r.status, r.stderr]).toEqual([2, expect.stringContaining('alder, birch, hazel, rowan')])
  })
})
