import { f32, u32, u8 } from '../base/arrays.ts'
import { OakError } from '../base/errors.ts'
import { makeMesh, type Mesh } from '../shape/mesh.ts'
import { makePoints, type Points } from '../shape/points.ts'

export type Unit = 'mm' | 'cm' | 'm' | 'in' | 'ft' | 'um'
export const MM_PER: Record<Unit, number> = { mm: 1, cm: 10, m: 1000, in: 25.4, ft: 304.8, um: 0.001 }

/** What a reader found, in the file's own unit. */
export interface Read {
  data: Points | Mesh
  /** unit the file itself names */
  unit?: Unit
  /** for people: what was strange and what was done about it */
  warnings: string[]
}

/**
 * Drops what is not a number: points outright, mesh vertices together with their triangles.
 * Triangles that name one vertex twice go as well. Throws OakError 'empty' when nothing is left.
 */
export function finish(
  raw: {
    xyz: Float32Array
    normals?: Float32Array | undefined
    colours?: Uint8Array | undefined
    triangles?: Uint32Array | undefined
    viewpoint?: [number, number, number] | undefined
  },
  warnings: string[],
): Read {
  const n = raw.xyz.length / 3
  const good = u8(n)
  let bad = 0
  for (let i = 0; i < n; i++) {
    const s = raw.xyz[3 * i] + raw.xyz[3 * i + 1] + raw.xyz[3 * i + 2]
    if (Number.isFinite(s) && Math.abs(s) < 1e15) good[i] = 1
    else bad++
  }
  if (n - bad === 0)
    throw new OakError('empty', n === 0 ? 'The file holds no points.' : `None of the ${n} points has numbers for coordinates.`, {
      remedy: 'Export it again and look whether the file is meant to be empty.',
    })
  if (bad) warnings.push(`${bad} of ${n} points had no numbers for coordinates and were left out.`)
  if (!raw.triangles || raw.triangles.length === 0) {
    if (!bad) return { data: makePoints(raw), warnings }
    const pick = <A extends Float32Array | Uint8Array>(a: A, out: A): A => {
      for (let i = 0, o = 0; i < n; i++) if (good[i]) for (let k = 0; k < 3; k++) out[o++] = a[3 * i + k]
      return out
    }
    const m = 3 * (n - bad)
    return {
      data: makePoints({
        xyz: pick(raw.xyz, f32(m)),
        normals: raw.normals && pick(raw.normals, f32(m)),
        colours: raw.colours && pick(raw.colours, u8(m)),
        viewpoint: raw.viewpoint,
      }),
      warnings,
    }
  }
  let degenerate = 0
  let kept = 0
  const t = raw.triangles
  const triangles = u32(t.length)
  for (let i = 0; i < t.length; i += 3) {
    const [a, b, c] = [t[i], t[i + 1], t[i + 2]]
    if (!good[a] || !good[b] || !good[c]) continue
    if (a === b || b === c || a === c) {
      degenerate++
      continue
    }
    triangles[kept] = a
    triangles[kept + 1] = b
    triangles[kept + 2] = c
    kept += 3
  }
  if (degenerate) warnings.push(`${degenerate} triangles without area were left out.`)
  if (kept === 0) throw new OakError('empty', 'No triangle of the file has an area.', { remedy: 'Export the mesh again.' })
  const exact = kept === t.length ? triangles : u32(kept)
  if (kept !== t.length) exact.set(triangles.subarray(0, kept))
  const xyz = bad ? Float32Array.from(raw.xyz, (v) => (Number.isFinite(v) ? v : 0)) : raw.xyz
  return { data: makeMesh({ vertices: xyz, triangles: exact, colours: raw.colours }), warnings }
}
