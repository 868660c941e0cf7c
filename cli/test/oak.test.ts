import { describe, expect, test } from '@jest/globals'
import { spawnSync } from 'node:child_process'
import { existsSync, mkdtempSync, readFileSync, writeFileSync } from 'node:fs'
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
})
