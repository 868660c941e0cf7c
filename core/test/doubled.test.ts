import { describe, expect, it } from '@jest/globals'
import { fromRotationVector, identity, multiply, translation, type Mat4 } from '../src/base/mat4.ts'
import { doubledShare } from '../src/capture/doubled.ts'
import { growingSurface } from '../src/capture/surface.ts'
import { MATERIALS, type Thing } from '../src/scanner/scene.ts'
import { lookingAt } from '../src/scanner/seemarkers.ts'
import { takeShot } from '../src/scanner/shot.ts'
import { designedStereo, type ScannerSpec } from '../src/scanner/spec.ts'
import type { Mesh } from '../src/shape/mesh.ts'
import { buildBvh } from '../src/space/bvh.ts'
import { boxMesh } from './help.ts'
import { at } from './tray.ts'

const optics = designedStereo({ width: 640, height: 480, focal: 700, baseline: 150, crossing: 450 })
const spec = { design: optics, range: { near: 300, ideal: 450, far: 700 } } as unknown as ScannerSpec
const thing = (mesh: Mesh, pose: Mat4 = identity()): Thing => ({ kind: 'mesh', mesh, bvh: buildBvh(mesh, 'median'), pose, material: MATERIALS.matte })
// a block of a tenth of what is seen, on its table
const table = thing(at(boxMesh(500, 500, 10), -250, -250, -10))
const block = at(boxMesh(80, 70, 50), -40, -35, 0)
const from = (degrees: number, up = 50): Mat4 => {
  const [a, e] = [degrees, up].map((d) => (d * Math.PI) / 180)
  return lookingAt([450 * Math.cos(e) * Math.cos(a), 450 * Math.cos(e) * Math.sin(a), 450 * Math.sin(e)], [0, 0, 0])
}
let n = 0
const shot = (things: Thing[], pose: Mat4) =>
  takeShot(spec, optics, optics, things, { pose, pattern: 'area', exposure: 1, stride: 3, noise: 0.03, seed: 11 + n++ }).xyz
/** Seen from so many degrees on. */
function seen(things: Thing[], degrees: number[]) {
  const surface = growingSurface(1.5, 0.08)
  degrees.forEach((d, k) => surface.addFrame(shot(things, from(d)), from(d), k))
  return surface
}
const turn = Array.from({ length: 16 }, (_, k) => 2 * k)
const known = seen([table, thing(block)], turn)

describe('what is there twice', () => {
  it.each([
    ['lifted', translation(0, 0, 2)],
    ['pushed towards the scanner', translation(2, 0, 0)],
    ['pushed by less than a cube', translation(1, 0, 0)],
    ['lifted by less than a cube', translation(0, 0, 0.8)],
    ['turned', fromRotationVector(0, 0, 0.15)],
  ])('a block that was %s on its table', (_, moved) => {
    const share = doubledShare(known, shot([table, thing(block, moved)], from(20)), from(20))
    // of what is seen the block is a tenth, and slides along itself in parts
    expect(share).toBeGreaterThan(0.01)
    expect(share).toBeLessThan(0.2)
  })
  it('what is seen again, or from the other side for the first time, is there once', () => {
    for (const d of [0, 20, 60, 180]) expect(doubledShare(known, shot([table, thing(block)], from(d)), from(d))).toBeLessThan(0.002)
  })
  it('a thin sheet has two sides and is there once; so is an edge, a step, and what lies beside', () => {
    const sheet = [thing(at(boxMesh(120, 90, 0.8), -60, -45, 60))]
    const surface = seen(sheet, turn)
    const under = lookingAt([100, 0, -380], [0, 0, 60])
    expect(doubledShare(surface, shot(sheet, under), under)).toBe(0)
    const steps = [0, 1, 2, 3].map((k) => thing(at(boxMesh(30, 90, 20 + 3 * k), -60 + 30 * k, -45, 0)))
    const first = seen(steps, [0, 2, 4, 6])
    for (const d of [20, 60, 90]) expect(doubledShare(first, shot(steps, from(d)), from(d))).toBeLessThan(0.003)
  })
  it('a frame that is held some tenths of a millimetre off is not; far from the origin neither', () => {
    const away = translation(3000, -2000, 500)
    const surface = growingSurface(1.5, 0.08)
    ;[0, 7, 14, 21, 28].forEach((d, k) => surface.addFrame(shot([table, thing(block)], from(d)), multiply(away, from(d)), k))
    const off = multiply(multiply(away, translation(0.2, 0.1, 0.2)), from(22))
    expect(doubledShare(surface, shot([table, thing(block)], from(22)), off)).toBeLessThan(0.002)
    expect(doubledShare(growingSurface(1.5, 0.08), shot([table], from(0)), from(0))).toBe(0)
  })
})
