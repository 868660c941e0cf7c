import { Box3, BufferAttribute, BufferGeometry, Matrix4, Mesh, Points, Vector3, type Object3D, type ShaderMaterial } from 'three'
import type { Arrays } from './display.ts'
import { creased, seamed } from './geometry.ts'
import { meshMaterial, pointMaterial } from './materials.ts'

/** One thing to draw. */
export interface Shown {
  /** of the item: its data never changes */
  id: string
  slot: string
  kind: 'points' | 'mesh'
  /** of all of its points, mm, and how many they are; what is drawn are fewer */
  spacing: number | null
  count: number
  pose: number[]
  colour: readonly [number, number, number]
  /** in the colours that were recorded with it */
  tinted: boolean
  arrays: Arrays
  /** shaded by triangle, with faces to choose from */
  faces: boolean
  /** drawn thin, as a background */
  ghost: boolean
  /** one value for each shown point or vertex */
  values: Float32Array | null
  gone: Uint8Array | null
  /** a part of the item, of which there is no more */
  part?: boolean
}

/** As three.js draws it. */
export function makeObject(s: Shown, pointSize: number): Mesh | Points {
  const g = new BufferGeometry()
  if (s.kind === 'points') {
    const xyz = s.arrays['xyz'] as Float32Array
    g.setAttribute('position', new BufferAttribute(xyz, 3))
    const m = pointMaterial(pointSize)
    if (s.arrays['normals']) {
      g.setAttribute('normal', new BufferAttribute(s.arrays['normals'], 3))
      m.uniforms['lit'].value = 1
    }
    tint(g, s.arrays)
    return new Points(g, m)
  }
  const vertices = s.arrays['vertices'] as Float32Array
  const triangles = s.arrays['triangles'] as Uint32Array
  if (s.faces) {
    const { positions, faces } = seamed(vertices, triangles, s.arrays['faces'] as Uint32Array | undefined)
    g.setAttribute('position', new BufferAttribute(positions, 3))
    g.setAttribute('face', new BufferAttribute(faces, 1))
    return new Mesh(g, meshMaterial(true))
  }
  const { positions, normals, index, source } = creased(vertices, triangles)
  g.setAttribute('position', new BufferAttribute(positions, 3))
  g.setIndex(new BufferAttribute(index, 1))
  g.setAttribute('normal', new BufferAttribute(normals, 3))
  g.userData['source'] = source
  tint(g, s.arrays, source)
  const unmeasured = s.arrays['unmeasured']
  if (unmeasured) {
    const filled = new Float32Array(vertices.length / 3)
    for (let i = 0; i < triangles.length; i++) if (unmeasured[(i / 3) | 0]) filled[triangles[i]] = 1
    g.setAttribute(
      'filled',
      new BufferAttribute(
        Float32Array.from(source, (v) => filled[v]),
        1,
      ),
    )
  }
  return new Mesh(g, meshMaterial(false))
}

/** Colours that were recorded. source: the place of each drawn vertex in them, where it is another one. */
export function tint(g: BufferGeometry, arrays: Arrays, source?: Uint32Array): void {
  const colours = arrays['colours'] as Uint8Array | undefined
  if (!colours) return
  // aligned to four bytes, as graphics cards want it
  const n = source ? source.length : colours.length / 3
  const out = new Uint8Array(4 * n)
  for (let i = 0; i < n; i++) for (let k = 0; k < 3; k++) out[4 * i + k] = colours[3 * (source ? source[i] : i) + k]
  g.setAttribute('tint', new BufferAttribute(out, 4, true))
}

/** Box of what is shown; of points without the outermost half percent, so that strays do not make the part small. */
export function boxWithoutStrays(s: Shown): Box3 {
  const p = (s.kind === 'points' ? s.arrays['xyz'] : s.arrays['vertices']) as Float32Array
  const n = p.length / 3
  const step = Math.max(1, Math.floor(n / 3000))
  const low = new Vector3()
  const high = new Vector3()
  for (let k = 0; k < 3; k++) {
    const v = new Float32Array(Math.floor((n - 1) / step) + 1)
    for (let i = 0; i < v.length; i++) v[i] = p[3 * i * step + k]
    v.sort()
    const cut = s.kind === 'points' ? Math.floor(v.length * 0.005) : 0
    low.setComponent(k, v[cut] ?? 0)
    high.setComponent(k, v[v.length - 1 - cut] ?? 0)
  }
  return new Box3(low, high)
}

/** Its pose, colour and values, which change while its data does not. */
export function place(o: Mesh | Points, s: Shown): void {
  o.matrixAutoUpdate = false
  o.matrix.set(...(s.pose as Parameters<Matrix4['set']>))
  o.matrixWorldNeedsUpdate = true
  o.updateMatrixWorld(true)
  const u = (o.material as ShaderMaterial).uniforms
  u['colour'].value.set(s.colour[0] / 255, s.colour[1] / 255, s.colour[2] / 255)
  u['mapped'].value = s.values ? 1 : 0
  u['tinted'].value = s.tinted ? 1 : 0
  if (u['ghost']) u['ghost'].value = s.ghost ? 1 : 0
  setAttribute(o, 'value', s.values, false)
  setAttribute(o, 'gone', s.gone, true)
}

function setAttribute(o: Object3D & { geometry: BufferGeometry }, name: string, data: Float32Array | Uint8Array | null, whole: boolean): void {
  const { geometry } = o
  if (!data) {
    if (geometry.getAttribute(name)) geometry.deleteAttribute(name)
    geometry.userData[name] = null
    return
  }
  if (geometry.userData[name] === data) return
  geometry.userData[name] = data
  // along edges a vertex is drawn several times
  const source = geometry.userData['source'] as Uint32Array | undefined
  const spread = source ? Float32Array.from(source, (v) => data[v]) : whole ? Float32Array.from(data) : data
  geometry.setAttribute(name, new BufferAttribute(spread, 1))
}
