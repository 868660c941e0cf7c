import { invertRigid, transformPoint, type Mat4 } from '../src/base/mat4.ts'
import { type Random } from '../src/base/random.ts'
import type { Stereo } from '../src/calibrate/camera.ts'
import type { Markers } from '../src/markers/markers.ts'
import { evenSight, type MarkerFrame, type SightModel } from '../src/markers/sight.ts'
import { lookingAt, seeMarkers } from '../src/scanner/seemarkers.ts'
import { designedStereo, type ScannerSpec } from '../src/scanner/spec.ts'

/** Optics of a hand-held scanner at 400 mm, for tests that must not depend on the demo's devices. */
export const STEREO: Stereo = designedStereo({ width: 1024, height: 768, focal: 1050, baseline: 140, crossing: 400 })
export const SPEC = { design: STEREO, range: { near: 250, ideal: 400, far: 550 } } as unknown as ScannerSpec
export const NOISE = 0.02

export interface Layout {
  positions: number[]
  normals: number[]
  diameters: number[]
}

/** Markers strewn over a table of w x h mm, at least `apart` from each other, some on low blocks. */
export function strewn(random: Random, count: number, w: number, h: number, apart = 30): Layout {
  const l: Layout = { positions: [], normals: [], diameters: [] }
  while (l.diameters.length < count) {
    const x = (random.next() - 0.5) * w
    const y = (random.next() - 0.5) * h
    if (l.diameters.some((_, i) => Math.hypot(l.positions[3 * i] - x, l.positions[3 * i + 1] - y) < apart)) continue
    l.positions.push(x, y, random.next() < 0.3 ? 30 * random.next() : 0)
    l.normals.push(0, 0, 1)
    l.diameters.push(random.next() < 0.5 ? 3 : 6)
  }
  return l
}

/** Left camera to world on a path over the table: from 0 to 1 once round, never far from the ideal distance. */
export function pathAt(a: number, w = 260, h = 180): Mat4 {
  const t = [(w / 2) * Math.sin(2 * Math.PI * 2.3 * a), (h / 2) * Math.cos(2 * Math.PI * 1.7 * a), 0]
  const az = 4 * Math.PI * a
  const el = ((62 + 22 * Math.sin(10 * Math.PI * a)) * Math.PI) / 180
  const d = 400 + 30 * Math.sin(20 * a)
  return lookingAt([t[0] + d * Math.cos(el) * Math.cos(az), t[1] + d * Math.cos(el) * Math.sin(az), d * Math.sin(el)], t, 360 * a)
}

export interface Recording {
  frames: MarkerFrame[]
  truth: Int32Array[]
  poses: Mat4[]
}

/** A recording along the path. change: called before each frame, may move markers. */
export function record(
  l: Layout,
  count: number,
  seed: number,
  o: { strays?: number; dropouts?: number; believed?: Stereo; change?: (frame: number) => void } = {},
): Recording {
  const out: Recording = { frames: [], truth: [], poses: [] }
  for (let f = 0; f < count; f++) {
    o.change?.(f)
    const pose = pathAt(f / count)
    const seen = seeMarkers(SPEC, STEREO, o.believed ?? STEREO, l, [], {
      pose,
      noise: NOISE,
      seed: 1000 * seed + f,
      strays: o.strays ?? 0.05,
      dropouts: o.dropouts ?? 0.05,
    })
    out.frames.push({ time: 60 * f, xyz: seen.xyz, diameters: seen.diameters })
    out.truth.push(seen.truth)
    out.poses.push(invertRigid(pose))
  }
  return out
}

/** Pairs of map marker and true one, by the pose of the first frame, which is where a map that was not levelled has its axes. */
export function pairUp(m: Markers, l: Layout, first: Mat4): { map: number; true: number }[] {
  return m.ids.flatMap((_, i) => {
    const p = transformPoint(first, m.positions[3 * i], m.positions[3 * i + 1], m.positions[3 * i + 2])
    const k = l.diameters.findIndex((_d, j) => Math.hypot(p[0] - l.positions[3 * j], p[1] - l.positions[3 * j + 1], p[2] - l.positions[3 * j + 2]) < 5)
    return k < 0 ? [] : [{ map: i, true: k }]
  })
}

export function infoOf(xyz: ArrayLike<number>, sight: SightModel = evenSight): Float64Array {
  const n = xyz.length / 3
  const info = new Float64Array(6 * n)
  const one = new Float64Array(6)
  for (let i = 0; i < n; i++) {
    sight(xyz[3 * i], xyz[3 * i + 1], xyz[3 * i + 2], one)
    info.set(one, 6 * i)
  }
  return info
}
