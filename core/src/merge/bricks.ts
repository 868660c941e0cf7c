import { eachRun, type MergeSource } from './source.ts'
import type { Lattice } from './lattice.ts'
import { u8 } from '../base/arrays.ts'

/** A part of the lattice that is worked on at a time: blocks low .. high - 1. */
export interface Brick {
  low: number[]
  high: number[]
  /** points in it and near it, at the most */
  points: number
}

/** Blocks of a cube in which points are counted. */
const CUBE = 2

/**
 * The lattice in bricks of at most so many points, where possible: halved along their longest side in the middle of their points (Bentley 1975). Together they
 * hold all that the surface can reach.
 */
export function divide(source: MergeSource, lattice: Lattice, most: number): Brick[] {
  const side = 8 * lattice.cell
  const blockOf = (v: number, k: number) => Math.floor((v - lattice.origin[k]) / side)
  // the band reaches a cell or two further than the points
  const low = [0, 1, 2].map((k) => blockOf(source.box[k], k) - 1)
  const high = [0, 1, 2].map((k) => blockOf(source.box[3 + k], k) + 2)
  if (source.points <= most) return [{ low, high, points: source.points }]
  const counted = countCubes(source, blockOf)
  const n = counted.length / 4
  const beside = Math.ceil((source.radius + source.cell) / side)
  const bricks: Brick[] = []
  halve(
    low,
    high,
    Int32Array.from({ length: n }, (_, i) => i),
  )
  return bricks

  function halve(low: number[], high: number[], cubes: Int32Array): void {
    const own = cubes.reduce((s, c) => s + counted[4 * c + 3], 0)
    if (!own) return
    const order = [0, 1, 2].sort((a, b) => high[b] - low[b] - (high[a] - low[a]))
    if (own > most)
      for (const k of order) {
        const at = middle(cubes, k, own / 2)
        if (at <= low[k] || at >= high[k]) continue
        halve(
          low,
          moved(high, k, at),
          cubes.filter((c) => counted[4 * c + k] * CUBE < at),
        )
        halve(
          moved(low, k, at),
          high,
          cubes.filter((c) => counted[4 * c + k] * CUBE >= at),
        )
        return
      }
    let points = 0
    for (let c = 0; c < n; c++) {
      let near = true
      for (let k = 0; k < 3; k++) near &&= counted[4 * c + k] * CUBE < high[k] + 1 + beside && (counted[4 * c + k] + 1) * CUBE > low[k] - beside
      if (near) points += counted[4 * c + 3]
    }
    bricks.push({ low, high, points })
  }

  /** The border of cubes along k below which half of the points lie, or the one above where all lie below. */
  function middle(cubes: Int32Array, k: number, half: number): number {
    const byPlace = [...cubes].sort((a, b) => counted[4 * a + k] - counted[4 * b + k])
    const first = counted[4 * byPlace[0] + k]
    let s = 0
    for (const c of byPlace) {
      if (s >= half && counted[4 * c + k] > first) return counted[4 * c + k] * CUBE
      s += counted[4 * c + 3]
    }
    const last = counted[4 * byPlace[byPlace.length - 1] + k]
    return last > first ? last * CUBE : -Infinity
  }
}

const moved = (v: number[], k: number, x: number) => v.map((old, i) => (i === k ? x : old))

/** x, y, z of each cube that holds points, and how many. */
function countCubes(source: MergeSource, blockOf: (v: number, k: number) => number): Int32Array {
  const found = new Map<string, number>()
  const out: number[] = []
  let [lx, ly, lz] = [NaN, NaN, NaN]
  let at = -1
  eachRun(
    source,
    () => true,
    (xyz, n) => {
      for (let i = 0; i < n; i++) {
        const x = Math.floor(blockOf(xyz[3 * i], 0) / CUBE)
        const y = Math.floor(blockOf(xyz[3 * i + 1], 1) / CUBE)
        const z = Math.floor(blockOf(xyz[3 * i + 2], 2) / CUBE)
        if (x !== lx || y !== ly || z !== lz) {
          const key = `${x} ${y} ${z}`
          const known = found.get(key)
          at = known ?? out.length
          if (known === undefined) {
            found.set(key, at)
            out.push(x, y, z, 0)
          }
          ;[lx, ly, lz] = [x, y, z]
        }
        out[at + 3]++
      }
    },
  )
  return Int32Array.from(out)
}

/** Box of a brick's nodes in the job, mm: its own, and the first ones of its neighbours above, which its last cells need. */
export const boxOf = (b: Brick, l: Lattice) => Float64Array.from({ length: 6 }, (_, i) => l.origin[i % 3] + 8 * l.cell * (i < 3 ? b.low[i] : b.high[i - 3]))

/** What a brick needs of a lattice: its own blocks, and of those above it the nodes that its last cells reach. */
export function within(l: Lattice, brick: Brick): Lattice {
  const blocks: number[] = []
  const map = new Map<number, number>()
  const from: number[] = []
  for (const [key, b] of l.map) {
    let inside = true
    for (let k = 0; k < 3; k++) inside &&= l.blocks[3 * b + k] >= brick.low[k] && l.blocks[3 * b + k] <= brick.high[k]
    if (!inside) continue
    map.set(key, from.length)
    from.push(b)
    blocks.push(l.blocks[3 * b], l.blocks[3 * b + 1], l.blocks[3 * b + 2])
  }
  const rows = u8(64 * from.length)
  from.forEach((b, i) => {
    const [x, y, z] = [0, 1, 2].map((k) => l.blocks[3 * b + k] === brick.high[k])
    for (let row = 0; row < 64; row++) {
      if ((y && row & 7) || (z && row >> 3)) continue
      rows[64 * i + row] = l.rows[64 * b + row] & (x ? 1 : 255)
    }
  })
  return { ...l, blocks, map, rows }
}
