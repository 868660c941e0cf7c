import { f32 } from '../src/base/arrays.ts'
import { identity } from '../src/base/mat4.ts'
import type { Random } from '../src/base/random.ts'
import { readAny } from '../src/formats/index.ts'
import { makePoints, type Placed, type Points } from '../src/shape/points.ts'
import { scanRange } from '../src/scanner/rangeview.ts'
import { buildBvh } from '../src/space/bvh.ts'
import type { Mesh } from '../src/shape/mesh.ts'
import { fixtureSource } from './help.ts'

/** Points of surfaces with closed formulae, with normals, about one in each `pitch` squared. */

const fromLists = (xyz: number[], normals: number[]): Points => makePoints({ xyz: Float32Array.from(xyz), normals: Float32Array.from(normals) })

export const place = (data: Points, name = 'x', pose = identity()): Placed<Points> => ({ name, data, pose })

export function sphere(r: number, pitch: number): Points {
  const n = Math.round((4 * Math.PI * r * r) / pitch ** 2)
  const xyz = f32(3 * n)
  const normals = f32(3 * n)
  for (let i = 0; i < n; i++) {
    const z = 1 - (2 * i + 1) / n
    const a = i * Math.PI * (3 - Math.sqrt(5))
    const s = Math.sqrt(1 - z * z)
    normals.set([s * Math.cos(a), s * Math.sin(a), z], 3 * i)
    xyz.set([r * s * Math.cos(a), r * s * Math.sin(a), r * z], 3 * i)
  }
  return makePoints({ xyz, normals })
}

export function torus(R: number, r: number, pitch: number): Points {
  const v: number[] = []
  const m: number[] = []
  const rings = Math.round((2 * Math.PI * r) / pitch)
  for (let j = 0; j < rings; j++) {
    const b = (2 * Math.PI * j) / rings
    const around = Math.round((2 * Math.PI * (R + r * Math.cos(b))) / pitch)
    for (let i = 0; i < around; i++) {
      const a = (2 * Math.PI * (i + (j % 2) / 2)) / around
      v.push((R + r * Math.cos(b)) * Math.cos(a), (R + r * Math.cos(b)) * Math.sin(a), r * Math.sin(b))
      m.push(Math.cos(b) * Math.cos(a), Math.cos(b) * Math.sin(a), Math.sin(b))
    }
  }
  return fromLists(v, m)
}

export function cube(side: number, pitch: number): Points {
  const v: number[] = []
  const m: number[] = []
  const n = Math.round(side / pitch)
  for (let axis = 0; axis < 3; axis++)
    for (const s of [0, 1])
      for (let i = 0; i < n; i++)
        for (let j = 0; j < n; j++) {
          const p = [0, 0, 0]
          p[axis] = s * side
          p[(axis + 1) % 3] = ((i + 0.5) * side) / n
          p[(axis + 2) % 3] = ((j + 0.5) * side) / n
          v.push(...p)
          const k = [0, 0, 0]
          k[axis] = s ? 1 : -1
          m.push(...k)
        }
  return fromLists(v, m)
}

/** The round wall of a shaft along z, without its ends. */
export function shaft(r: number, length: number, pitch: number): Points {
  const v: number[] = []
  const m: number[] = []
  const around = Math.round((2 * Math.PI * r) / pitch)
  for (let j = 0; j * pitch <= length; j++)
    for (let i = 0; i < around; i++) {
      const a = (2 * Math.PI * (i + (j % 2) / 2)) / around
      v.push(r * Math.cos(a), r * Math.sin(a), j * pitch)
      m.push(Math.cos(a), Math.sin(a), 0)
    }
  return fromLists(v, m)
}

/** A level patch at height z, seen from above. */
export function patch(width: number, depth: number, pitch: number, z = 0): Points {
  const v: number[] = []
  for (let x = 0; x <= width + 1e-9; x += pitch) for (let y = 0; y <= depth + 1e-9; y += pitch) v.push(x, y, z)
  return makePoints({ xyz: Float32Array.from(v), viewpoint: [width / 2, depth / 2, 400] })
}

/** The same points with noise along their normals, or along z where they have none. */
export function noisy(p: Points, sigma: number, random: Random): Points {
  const xyz = f32(p.xyz.length)
  for (let i = 0; i < xyz.length; i += 3) {
    const s = sigma * random.gauss()
    for (let k = 0; k < 3; k++) xyz[i + k] = p.xyz[i + k] + s * (p.normals ? p.normals[i + k] : k === 2 ? 1 : 0)
  }
  return makePoints({ ...p, xyz })
}

/** Views of the plate with holes, made by ray casting: small, but with edges, bores and a slot. */
export async function plateViews(count: number, noise = 0.02, pitch = 0.35): Promise<Placed<Points>[]> {
  const cad = (await readAny(fixtureSource('cad/plate_holes_dev.stl'))).data as Mesh
  const bvh = buildBvh(cad)
  return Promise.all(
    Array.from({ length: count }, async (_, i) => {
      const a = ((i + 0.5) * Math.PI) / 3
      const scan = await scanRange(cad, bvh, {
        eye: [50 + 220 * Math.cos(a), 30 + 220 * Math.sin(a), 230],
        target: [50, 30, 10],
        pitch,
        halfWidth: 62,
        halfHeight: 50,
        noise,
        baseline: 40,
        maxIncidence: 75,
        strays: 0,
        seed: 40 + i,
      })
      return place(scan.points, `view ${i}`)
    }),
  )
}
