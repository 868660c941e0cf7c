import { identity, type Mat4 } from '../src/base/mat4.ts'
import { MATERIALS, type Thing } from '../src/scanner/scene.ts'
import { lookingAt } from '../src/scanner/seemarkers.ts'
import { takeShot } from '../src/scanner/shot.ts'
import { designedStereo, type ScannerSpec } from '../src/scanner/spec.ts'
import type { Mesh } from '../src/shape/mesh.ts'
import { buildBvh } from '../src/space/bvh.ts'

const optics = designedStereo({ width: 640, height: 480, focal: 700, baseline: 150, crossing: 450 })
const spec = { design: optics, range: { near: 300, ideal: 450, far: 700 } } as unknown as ScannerSpec

/** A scanner before a thing; print: it carries blots of that size, mm. */
export function scannerBefore(mesh: Mesh, print?: number) {
  const things: Thing[] = [{ kind: 'mesh', mesh, bvh: buildBvh(mesh, 'median'), pose: identity(), material: MATERIALS.matte, ...(print ? { print } : {}) }]
  let n = 0
  return (pose: Mat4) => takeShot(spec, optics, optics, things, { pose, pattern: 'area', exposure: 1, stride: 3, noise: 0.03, seed: 77 + n++ })
}
/** A scanner that is held so, and looks at a place. */
export const hand = (degrees: number, x = 0, y = 0, away = 450, up = 55): Mat4 => {
  const [a, e] = [degrees, up].map((d) => (d * Math.PI) / 180)
  const t = [x, y, 0]
  return lookingAt([t[0] + away * Math.cos(e) * Math.cos(a), t[1] + away * Math.cos(e) * Math.sin(a), t[2] + away * Math.sin(e)], t)
}
