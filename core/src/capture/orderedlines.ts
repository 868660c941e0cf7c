import { GrowF32, GrowU32 } from '../base/arrays.ts'
import type { Mat4 } from '../base/mat4.ts'
import { makeMesh, type Mesh } from '../shape/mesh.ts'

export interface OrderOptions {
  /** distance of two points along a line, mm */
  along: number
  /** largest gap between two lines, and within one, that is still one surface, mm */
  gap: number
}

/** A line as it was measured. */
export interface ScannedLine {
  /** 3N mm, scanner coordinates, in the order along it */
  xyz: Float32Array
  /** scanner to surface */
  pose: Mat4
}

export interface OrderedLines {
  /** its vertices lie line after line, on each of them evenly; triangles between two lines in turn, seen from the side of the scanner */
  mesh: Mesh
  /** lines that are in it, and those left out: too near to the one before, or nothing of them seen */
  lines: number
  leftOut: number
  /** those of them that follow another and are not joined to it */
  parted: number
  /** pieces that lines fell into where they are broken */
  runs: number
}

/** a line that went on by less than this share of what points are apart along it says nothing new */
const NEAR = 0.5

/**
 * Lines of a scanner that is led over a part, as ordered data: each line cut where a gap in it is wider than `gap`, its points averaged at even distances along it;
 * what lies side by side on two lines in turn, and no further apart than `gap`, is joined by triangles, the shorter diagonal first (Christiansen and Sederberg
 * 1978). A sweep over what was seen already lies over it: nothing is merged. Throws RangeError unless along and gap are larger than 0. Cost: linear in points.
 */
export function orderLines(lines: Iterable<ScannedLine>, { along, gap }: OrderOptions): OrderedLines {
  if (!(along > 0) || !(gap > 0)) throw new RangeError(`points ${along} mm apart, lines ${gap} mm`)
  const vertices = new GrowF32(1 << 14)
  const triangles = new GrowU32(1 << 14)
  const out = { lines: 0, leftOut: 0, parted: 0, runs: 0 }
  /** first vertex and end of each run of the line before, and where it was seen from */
  let before: Run[] = []
  let last: ScannedLine | undefined
  for (const line of lines) {
    if (last && wentOn(last, line) < NEAR * along) {
      out.leftOut++
      continue
    }
    const runs = runsOf(line, along, gap, vertices)
    if (!runs.length) {
      out.leftOut++
      before = []
      last = undefined
      continue
    }
    out.lines++
    out.runs += runs.length
    const had = triangles.length
    for (const a of before) for (const b of runs) join(vertices, a, b, gap, [line.pose[3], line.pose[7], line.pose[11]], triangles)
    if (before.length && triangles.length === had) out.parted++
    before = runs
    last = line
  }
  return { mesh: makeMesh({ vertices: vertices.done(), triangles: triangles.done() }), ...out }
}

interface Run {
  from: number
  to: number
}

/** How far the middle of a line's points went on from the line before, mm, at the most by what either is bent. */
function wentOn(last: ScannedLine, line: ScannedLine): number {
  const n = line.xyz.length / 3
  if (!n) return Infinity
  let most = 0
  // as both scanners see the same place of the line: at its ends and its middle
  for (const i of [0, n >> 1, n - 1]) {
    const [x, y, z] = [line.xyz[3 * i], line.xyz[3 * i + 1], line.xyz[3 * i + 2]]
    const [p, q] = [placed(line.pose, x, y, z), placed(last.pose, x, y, z)]
    most = Math.max(most, Math.hypot(p[0] - q[0], p[1] - q[1], p[2] - q[2]))
  }
  return most
}

const placed = (m: Mat4, x: number, y: number, z: number): [number, number, number] => [
  m[0] * x + m[1] * y + m[2] * z + m[3],
  m[4] * x + m[5] * y + m[6] * z + m[7],
  m[8] * x + m[9] * y + m[10] * z + m[11],
]

/** Cuts a line where it is broken, and puts points at even distances along each piece: each the mean of what lies half a distance before and after it. */
function runsOf({ xyz, pose }: ScannedLine, along: number, gap: number, vertices: GrowF32): Run[] {
  const runs: Run[] = []
  const n = xyz.length / 3
  for (let from = 0; from < n;) {
    let to = from + 1
    while (to < n && distance(xyz, to - 1, to) <= gap) to++
    const first = vertices.length / 3
    sample(xyz, from, to, along, (x, y, z) => {
      const [a, b, c] = placed(pose, x, y, z)
      vertices.push3(a, b, c)
    })
    if (vertices.length / 3 - first > 1) runs.push({ from: first, to: vertices.length / 3 })
    else vertices.length = 3 * first
    from = to
  }
  return runs
}

function sample(xyz: Float32Array, from: number, to: number, along: number, put: (x: number, y: number, z: number) => void): void {
  // what scatters is no way: the line's own length is that of means over what points are to be apart
  let [count, x, y, z] = [0, 0, 0, 0]
  let [px, py, pz] = [NaN, NaN, NaN]
  let began = from
  const end = () => {
    if (!count) return
    ;[px, py, pz] = [x / count, y / count, z / count]
    put(px, py, pz)
    count = x = y = z = 0
  }
  for (let i = from; i < to; i++) {
    if (count && Math.hypot(xyz[3 * i] - xyz[3 * began], xyz[3 * i + 1] - xyz[3 * began + 1], xyz[3 * i + 2] - xyz[3 * began + 2]) >= along) {
      end()
      began = i
      // points that are further apart than wanted: even steps between them
      const d = Math.hypot(xyz[3 * i] - px, xyz[3 * i + 1] - py, xyz[3 * i + 2] - pz)
      const steps = Math.round(d / along)
      for (let s = 1; s < steps; s++) {
        const t = s / steps
        put(px + t * (xyz[3 * i] - px), py + t * (xyz[3 * i + 1] - py), pz + t * (xyz[3 * i + 2] - pz))
      }
    }
    count++
    x += xyz[3 * i]
    y += xyz[3 * i + 1]
    z += xyz[3 * i + 2]
  }
  end()
}

const distance = (xyz: Float32Array, i: number, j: number) =>
  Math.hypot(xyz[3 * i] - xyz[3 * j], xyz[3 * i + 1] - xyz[3 * j + 1], xyz[3 * i + 2] - xyz[3 * j + 2])

/** Triangles between two runs that lie side by side and go the same way. eye: where the scanner was. */
function join(vertices: GrowF32, a: Run, b: Run, gap: number, eye: readonly number[], triangles: GrowU32): void {
  const v = vertices.reserve(0)
  const apart = (i: number, j: number) => distance(v, i, j)
  // where both begin to lie side by side: from the beginning of one of them
  let [i, j] = [a.from, b.from]
  const nearest = (of: number, r: Run) => {
    let best = r.from
    for (let k = r.from + 1; k < r.to; k++) if (apart(of, k) < apart(of, best)) best = k
    return best
  }
  const [ib, ja] = [nearest(b.from, a), nearest(a.from, b)]
  if (apart(ib, b.from) < apart(a.from, ja)) i = ib
  else j = ja
  while (i + 1 < a.to || j + 1 < b.to) {
    const onA = i + 1 < a.to ? apart(i + 1, j) : Infinity
    const onB = j + 1 < b.to ? apart(i, j + 1) : Infinity
    const next = onA <= onB ? i + 1 : j + 1
    // a diagonal is longer than the gap it bridges
    const step = onA <= onB ? apart(i, i + 1) : apart(j, j + 1)
    const fits = apart(i, j) <= gap && Math.min(onA, onB) <= Math.hypot(gap, step)
    if (fits) put(v, i, j, next, eye, triangles)
    if (onA <= onB) i++
    else j++
  }
}

/** A triangle whose normal looks to the eye. */
function put(v: Float32Array, i: number, j: number, k: number, eye: readonly number[], triangles: GrowU32): void {
  const [ax, ay, az] = [v[3 * j] - v[3 * i], v[3 * j + 1] - v[3 * i + 1], v[3 * j + 2] - v[3 * i + 2]]
  const [bx, by, bz] = [v[3 * k] - v[3 * i], v[3 * k + 1] - v[3 * i + 1], v[3 * k + 2] - v[3 * i + 2]]
  const n = [ay * bz - az * by, az * bx - ax * bz, ax * by - ay * bx]
  const towards = n[0] * (eye[0] - v[3 * i]) + n[1] * (eye[1] - v[3 * i + 1]) + n[2] * (eye[2] - v[3 * i + 2])
  triangles.push(i)
  triangles.push(towards < 0 ? k : j)
  triangles.push(towards < 0 ? j : k)
}
