import type { Solid } from 'replicad'
import { f32, u32 } from '@oak-gauge/core/base/arrays.ts'
import { makeMesh, type Mesh } from '@oak-gauge/core/shape/mesh.ts'
import { cad } from '../cad.ts'

const solid = (s: unknown) => s as Solid

/** Pawl of the paddle winch, 96 mm long, 12 thick: it drops into the ratchet and holds the load. */
export async function pawl(): Promise<Solid> {
  const r = await cad()
  const outline = r
    .draw([-18, -8])
    .lineTo([10, -14])
    .lineTo([52, -12])
    .lineTo([74, -4])
    .lineTo([78, 8])
    .lineTo([62, 6])
    .lineTo([44, 12])
    .lineTo([8, 15])
    .lineTo([-14, 12])
    .close()
  let part = solid(outline.sketchOnPlane('XY').extrude(12))
  part = solid(part.fillet(1.5))
  part = solid(part.fuse(solid(r.makeCylinder(13, 18, [0, 0, -3], [0, 0, 1]))))
  part = solid(part.cut(solid(r.makeCylinder(6, 40, [0, 0, -10], [0, 0, 1]))))
  return solid(part.cut(solid(r.makeCylinder(2.5, 40, [38, 0, -10], [0, 0, 1]))))
}

/** Cover of the gear box: a thin dished disc with six equal holes. Turning it by 60 degrees changes nothing: shape alone cannot tell its pose. */
export async function gearCover(): Promise<Solid> {
  const r = await cad()
  let part = solid(r.makeCylinder(70, 4, [0, 0, 0], [0, 0, 1]))
  part = solid(part.fuse(solid(r.makeCylinder(52, 12, [0, 0, 0], [0, 0, 1]))))
  part = solid(part.cut(solid(r.makeCylinder(49, 10, [0, 0, -1], [0, 0, 1]))))
  for (let k = 0; k < 6; k++)
    part = solid(part.cut(solid(r.makeCylinder(3.3, 20, [61 * Math.cos((k * Math.PI) / 3), 61 * Math.sin((k * Math.PI) / 3), -5], [0, 0, 1]))))
  return solid(part.fillet(1, (e) => e.inPlane('XY', 12)))
}

/** Oak handle of a lock gate's sill, worn by hands: an oval, slightly bent grip with finger hollows, 130 mm long. */
export function sillHandle(): Mesh {
  const rings = 180
  const around = 120
  const vertices = f32(3 * (rings * around + 2))
  const place = (i: number, j: number): [number, number, number] => {
    const s = i / (rings - 1)
    const a = (2 * Math.PI * j) / around
    const end = Math.sqrt(Math.max(0.0004, 1 - (2 * s - 1) ** 10))
    const grooves = 1.1 * Math.cos(8 * Math.PI * s) * Math.max(0, -Math.sin(a)) * Math.sin(Math.PI * s)
    const wear = 0.8 * Math.exp(-(((s - 0.62) / 0.1) ** 2)) * Math.max(0, Math.cos(a - 0.7)) ** 2
    const r = end * (15 + 2.5 * Math.sin(Math.PI * s) + 1.2 * Math.cos(3 * Math.PI * s) + grooves - wear)
    return [130 * (s - 0.5), r * 0.86 * Math.cos(a), r * 1.08 * Math.sin(a) + 18 + 5 * Math.sin(Math.PI * s)]
  }
  for (let i = 0; i < rings; i++) for (let j = 0; j < around; j++) vertices.set(place(i, j), 3 * (i * around + j))
  const [first, last] = [rings * around, rings * around + 1]
  vertices.set([-65, 0, 18], 3 * first)
  vertices.set([65, 0, 18], 3 * last)
  const t: number[] = []
  const at = (i: number, j: number) => i * around + (j % around)
  for (let j = 0; j < around; j++) {
    for (let i = 0; i + 1 < rings; i++) t.push(at(i, j), at(i, j + 1), at(i + 1, j + 1), at(i, j), at(i + 1, j + 1), at(i + 1, j))
    t.push(first, at(0, j + 1), at(0, j), last, at(rings - 1, j), at(rings - 1, j + 1))
  }
  const triangles = u32(t.length)
  triangles.set(t)
  return makeMesh({ vertices, triangles })
}
