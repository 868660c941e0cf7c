import type { Solid } from 'replicad'
import { f32, u32 } from '@oak-gauge/core/base/arrays.ts'
import { fromRotationVector, type Mat4 } from '@oak-gauge/core/base/mat4.ts'
import { makeMesh, type Mesh } from '@oak-gauge/core/shape/mesh.ts'
import { meshFromCorners } from '@oak-gauge/core/shape/weld.ts'
import { cad, tessellate } from '../cad.ts'
import { bracket } from '../parts/bracket.ts'
import { gearCover, pawl, sillHandle } from '../parts/others.ts'

/** A part that differs in kind from the others, and how it is laid down for its two setups. */
export interface ZooPart {
  name: string
  mesh(): Promise<Mesh>
  /** pose of the part in setup 2 against setup 1 */
  second: Mat4
  /** what no surface of this part holds: a turn about this axis through this place */
  turns?: { at: [number, number, number]; axis: [number, number, number] }
  /** turns about z after which it is the same, when more than one */
  fold?: number
}

const solid = (s: unknown) => s as Solid
const quarter = Math.PI / 2
const over = fromRotationVector(Math.PI, 0, 0)
const onSide = fromRotationVector(-quarter, 0, 0)
const meshOf = (s: Solid, size: number) => tessellate(s, 4e-5 * size, 4)

/** Folded sheet cover, 1.5 mm thick with a rim all round: both faces are nowhere further apart than that. */
async function sheetCover(): Promise<Mesh> {
  const r = await cad()
  let p = solid(r.makeBox([0, 0, 0], [140, 90, 18]))
  p = solid(p.cut(solid(r.makeBox([1.5, 1.5, -1], [138.5, 88.5, 16.5]))))
  p = solid(p.cut(solid(r.makeCylinder(9, 40, [38, 30, -5], [0, 0, 1]))))
  p = solid(p.cut(solid(r.makeBox([100, 55, 10], [128, 75, 30]))))
  p = solid(p.cut(solid(r.makeBox([132, 20, -1], [150, 34, 9]))))
  return meshOf(p, 160)
}

/** Thin U of bent sheet with a slot and two holes. */
async function channel(): Promise<Mesh> {
  const r = await cad()
  let p = solid(r.makeBox([0, 0, 0], [160, 32, 26]))
  p = solid(p.cut(solid(r.makeBox([-1, 1.5, 1.5], [161, 30.5, 30]))))
  p = solid(p.cut(solid(r.makeBox([30, -5, 10], [62, 10, 18]))))
  p = solid(p.cut(solid(r.makeCylinder(5, 20, [110, 16, -5], [0, 0, 1]))))
  p = solid(p.cut(solid(r.makeCylinder(3.5, 20, [135, 25, 14], [0, 1, 0]))))
  return meshOf(p, 165)
}

/** Stepped shaft with one keyway: only the keyway holds the turn. */
async function shaft(): Promise<Mesh> {
  const r = await cad()
  const c = (radius: number, from: number, length: number) => solid(r.makeCylinder(radius, length, [from, 0, 0], [1, 0, 0]))
  let p = solid(solid(c(12, 0, 45)).fuse(c(16, 45, 60)))
  p = solid(p.fuse(c(10, 105, 35)))
  p = solid(p.cut(solid(r.makeBox([50, -4, 11.5], [85, 4, 20]))))
  return meshOf(p, 145)
}

/** Lever with three bores of different size. */
async function lever(): Promise<Mesh> {
  const r = await cad()
  const outline = r.draw([-22, -14]).lineTo([60, -12]).lineTo([118, 6]).lineTo([120, 20]).lineTo([58, 14]).lineTo([10, 26]).lineTo([-18, 16]).close()
  let p = solid(outline.sketchOnPlane('XY').extrude(14))
  p = solid(p.fillet(2))
  for (const [x, y, d] of [
    [0, 4, 18],
    [60, 2, 10],
    [108, 12, 8],
  ])
    p = solid(p.cut(solid(r.makeCylinder(d / 2, 40, [x, y, -10], [0, 0, 1]))))
  return meshOf(p, 150)
}

/** Turned pot with a thick wall: a turn about its axis changes nothing. Turned here: the CAD kernel needs half a minute for triangles as fine. */
function pot(): Promise<Mesh> {
  const steps = 360
  // radius and height, from the middle of its foot round to the middle of its floor; face by face
  const round = Array.from({ length: 31 }, (_, k) => [39 + 6 * Math.cos((k * quarter) / 30), 54 + 6 * Math.sin((k * quarter) / 30)])
  const line = (...from: number[]) => [from.slice(0, 2), from.slice(2)]
  const profile = [line(0, 0, 45, 0), line(45, 0, 45, 54), round, line(39, 60, 38, 60), line(38, 60, 38, 8), line(38, 8, 0, 8)]
  const corners: number[] = []
  const faces: number[] = []
  const at = ([r, z]: number[], k: number) => {
    const a = ((k % steps) * 2 * Math.PI) / steps
    return [r * Math.cos(a), r * Math.sin(a), z]
  }
  profile.forEach((piece, face) => {
    for (let i = 0; i + 1 < piece.length; i++)
      for (let k = 0; k < steps; k++) {
        const [a, b, c, d] = [at(piece[i], k), at(piece[i], k + 1), at(piece[i + 1], k + 1), at(piece[i + 1], k)]
        // at the axis one side of the four has no length
        if (piece[i][0] > 0) corners.push(...a, ...b, ...c)
        if (piece[i + 1][0] > 0) corners.push(...a, ...c, ...d)
        for (const p of [piece[i], piece[i + 1]]) if (p[0] > 0) faces.push(face)
      }
  })
  return Promise.resolve(makeMesh(meshFromCorners(Float32Array.from(corners), Uint32Array.from(faces), 1e-6).mesh))
}

/** Angle bar of 2 m with holes at uneven distances. */
async function beam(): Promise<Mesh> {
  const r = await cad()
  let p = solid(r.makeBox([0, 0, 0], [2000, 60, 60]))
  p = solid(p.cut(solid(r.makeBox([-1, 8, 8], [2001, 70, 70]))))
  for (const x of [140, 520, 760, 1420, 1840]) p = solid(p.cut(solid(r.makeCylinder(9, 40, [x, 34, -10], [0, 0, 1]))))
  p = solid(p.cut(solid(r.makeBox([980, -5, 30], [1060, 20, 70]))))
  return meshOf(p, 2000)
}

/** Cube of 5 mm with a bore off its middle and one corner cut. */
async function tinyCube(): Promise<Mesh> {
  const r = await cad()
  let p = solid(r.makeBox([0, 0, 0], [5, 5, 5]))
  p = solid(p.cut(solid(r.makeCylinder(0.9, 20, [2, 2.9, -5], [0, 0, 1]))))
  p = solid(p.cut(solid(r.makeBox([3.6, -1, 3.4], [6, 1.6, 6]))))
  return meshOf(p, 8)
}

/** Plate with nine equal ribs at equal distances; one pad tells its ends apart. */
async function ribs(): Promise<Mesh> {
  const r = await cad()
  let p = solid(r.makeBox([0, 0, 0], [150, 70, 8]))
  for (let k = 0; k < 9; k++) p = solid(p.fuse(solid(r.makeBox([8 + 16 * k, 0, 7], [13 + 16 * k, 70, 22]))))
  p = solid(p.fuse(solid(r.makeBox([14, 28, 7], [23, 42, 13]))))
  return meshOf(p, 165)
}

/** Round cover whose six holes are even, but for one that is larger. */
async function nearlySixfold(): Promise<Mesh> {
  const r = await cad()
  let p = solid(r.makeCylinder(60, 9, [0, 0, 0], [0, 0, 1]))
  p = solid(p.fuse(solid(r.makeCylinder(28, 22, [0, 0, 0], [0, 0, 1]))))
  p = solid(p.cut(solid(r.makeCylinder(15, 60, [0, 0, -10], [0, 0, 1]))))
  for (let k = 0; k < 6; k++)
    p = solid(p.cut(solid(r.makeCylinder(k === 0 ? 6 : 4, 30, [45 * Math.cos((k * Math.PI) / 3), 45 * Math.sin((k * Math.PI) / 3), -5], [0, 0, 1]))))
  return meshOf(p, 120)
}

/** Knob of the tiller: a lump without a flat face. */
function knob(): Mesh {
  const [rings, around] = [260, 360]
  const vertices = f32(3 * (rings * around + 2))
  const place = (u: number, v: number): [number, number, number] => {
    const r =
      34 +
      6 * Math.sin(u) * Math.cos(v + 0.4) +
      4 * Math.sin(u) ** 2 * Math.cos(2 * v - 0.9) +
      3 * Math.cos(3 * u) * Math.sin(v) +
      2 * Math.sin(2 * u) * Math.cos(3 * v + 1)
    return [1.5 * r * Math.sin(u) * Math.cos(v), r * Math.sin(u) * Math.sin(v), 0.9 * r * Math.cos(u)]
  }
  for (let i = 0; i < rings; i++)
    for (let j = 0; j < around; j++) vertices.set(place((Math.PI * (i + 1)) / (rings + 1), (2 * Math.PI * j) / around), 3 * (i * around + j))
  const [first, last] = [rings * around, rings * around + 1]
  vertices.set(place(0, 0), 3 * first)
  vertices.set(place(Math.PI, 0), 3 * last)
  const t: number[] = []
  const at = (i: number, j: number) => i * around + (j % around)
  for (let j = 0; j < around; j++) {
    t.push(first, at(0, j), at(0, j + 1), last, at(rings - 1, j + 1), at(rings - 1, j))
    for (let i = 0; i + 1 < rings; i++) t.push(at(i, j), at(i + 1, j), at(i + 1, j + 1), at(i, j), at(i + 1, j + 1), at(i, j + 1))
  }
  const triangles = u32(t.length)
  triangles.set(t)
  return makeMesh({ vertices, triangles })
}

/** Parts that differ in kind, ours and simple enough to know everything about: what works on all of them does not lean on one. */
export const ZOO: readonly ZooPart[] = [
  { name: 'sheet cover', mesh: sheetCover, second: over },
  { name: 'channel', mesh: channel, second: onSide },
  { name: 'shaft', mesh: shaft, second: onSide },
  { name: 'lever', mesh: lever, second: over },
  { name: 'pot', mesh: pot, second: onSide, turns: { at: [0, 0, 0], axis: [0, 0, 1] } },
  { name: 'beam', mesh: beam, second: onSide },
  { name: 'tiny cube', mesh: tinyCube, second: onSide },
  { name: 'knob', mesh: () => Promise.resolve(knob()), second: over },
  { name: 'ribs', mesh: ribs, second: onSide },
  { name: 'six holes', mesh: nearlySixfold, second: over },
  { name: 'bracket', mesh: async () => meshOf(await bracket(), 200), second: onSide },
  { name: 'pawl', mesh: async () => meshOf(await pawl(), 100), second: over },
  { name: 'gear cover', mesh: async () => meshOf(await gearCover(), 140), second: over, fold: 6 },
  { name: 'sill handle', mesh: () => Promise.resolve(sillHandle()), second: over },
]
