import { f32, u32, u8 } from '../base/arrays.ts'
import { OakError } from '../base/errors.ts'
import { makeMesh, type Mesh } from '../shape/mesh.ts'
import { makePoints, type Points } from '../shape/points.ts'
import { weld } from '../shape/weld.ts'

export type Unit = 'mm' | 'cm' | 'm' | 'in' | 'ft' | 'um'
export const MM_PER: Record<Unit, number> = { mm: 1, cm: 10, m: 1000, in: 25.4, ft: 304.8, um: 0.001 }

/** A place that coordinates are kept relative to, in the file's own unit. */
export type Origin = readonly [number, number, number]
export const NO_ORIGIN: Origin = [0, 0, 0]

/** What a reader found, relative to the origin it was given, in the file's own unit. */
export interface Read {
  data: Points | Mesh
  /** unit of the data, where the file names it */
  unit?: Unit
  /** unit that the file was written in, where the reader converts (STEP) */
  stated?: Unit
  /** of a CAD file: from its exact surfaces, mm3 and mm2 (volume 0 without a body), and how far its triangles may lie off them, mm */
  exact?: { volume: number; area: number; chord: number }
  /** for people: what was strange and what was done about it */
  warnings: string[]
}

const UNIT_WORDS: Record<string, Unit> = {
  mm: 'mm',
  millimeter: 'mm',
  millimeters: 'mm',
  millimetre: 'mm',
  millimetres: 'mm',
  cm: 'cm',
  centimeter: 'cm',
  centimetre: 'cm',
  m: 'm',
  meter: 'm',
  meters: 'm',
  metre: 'm',
  metres: 'm',
  in: 'in',
  inch: 'in',
  inches: 'in',
  ft: 'ft',
  foot: 'ft',
  feet: 'ft',
  um: 'um',
  micron: 'um',
  microns: 'um',
  micrometer: 'um',
  micrometre: 'um',
}
/** The unit that a comment of a file names ("unit mm", "units: inches"), as this program and others write it. */
export function unitInComment(text: string): Unit | undefined {
  // "units in metres" is no inch
  const word = /\bunits?\b\s*(?:[:=]|are\b|is\b)?\s*(?:in\s+(?=[a-z]))?([a-z]+)/i.exec(text)?.[1]?.toLowerCase()
  return word === undefined ? undefined : UNIT_WORDS[word]
}

/**
 * Drops what is not a number, points and vertices alike, with the triangles on them. Vertices at the very same place become one (a file that parts them along its seams would otherwise
 * look open there). Triangles that name one vertex twice go as well. All of it is counted. Throws OakError 'empty' when nothing is left.
 */
export function finish(
  raw: {
    xyz: Float32Array
    normals?: Float32Array | undefined
    colours?: Uint8Array | undefined
    triangles?: Uint32Array | undefined
    /** T: 1 where the surface was filled, not measured */
    unmeasured?: Uint8Array | undefined
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
  // vertices that are there, each place once
  const place = u32(n)
  const kept = f32(3 * (n - bad))
  for (let i = 0, o = 0; i < n; i++) {
    if (!good[i]) continue
    for (let k = 0; k < 3; k++) kept[3 * o + k] = raw.xyz[3 * i + k]
    place[i] = o++
  }
  const { vertices, index } = weld(kept)
  const doubled = (kept.length - vertices.length) / 3
  if (doubled) warnings.push(`${doubled} vertices lay at the very place of another and were joined with it.`)
  const colours = raw.colours && u8(vertices.length)
  if (colours && raw.colours)
    for (let i = n - 1; i >= 0; i--) if (good[i]) for (let k = 0; k < 3; k++) colours[3 * index[place[i]] + k] = raw.colours[3 * i + k]
  let degenerate = 0
  let m = 0
  const t = raw.triangles
  const triangles = u32(t.length)
  const unmeasured = raw.unmeasured && u8(t.length / 3)
  for (let i = 0; i < t.length; i += 3) {
    if (!good[t[i]] || !good[t[i + 1]] || !good[t[i + 2]]) continue
    const [a, b, c] = [index[place[t[i]]], index[place[t[i + 1]]], index[place[t[i + 2]]]]
    if (a === b || b === c || a === c) {
      degenerate++
      continue
    }
    triangles[m] = a
    triangles[m + 1] = b
    triangles[m + 2] = c
    if (unmeasured && raw.unmeasured) unmeasured[m / 3] = raw.unmeasured[i / 3]
    m += 3
  }
  if (degenerate) warnings.push(`${degenerate} triangles without area were left out.`)
  if (m === 0) throw new OakError('empty', 'No triangle of the file has an area.', { remedy: 'Export the mesh again.' })
  const exact = m === t.length ? triangles : u32(m)
  if (m !== t.length) exact.set(triangles.subarray(0, m))
  let flags = unmeasured
  if (unmeasured && m !== t.length) {
    flags = u8(m / 3)
    flags.set(unmeasured.subarray(0, m / 3))
  }
  // a file without a filled triangle says no more than one without the flag
  return { data: makeMesh({ vertices, triangles: exact, colours, unmeasured: flags?.some((v) => v !== 0) ? flags : undefined }), warnings }
}
