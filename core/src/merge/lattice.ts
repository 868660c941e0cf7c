import { u8 } from '../base/arrays.ts'

/**
 * Nodes of a regular lattice near the surface only, in blocks of 8 x 8 x 8. Node (i, j, k) lies at
 * origin + cell * (i, j, k). The lattice is shifted by an irrational share of a cell, so that flat faces of a part do
 * not fall on lattice planes, which would give a fifth more triangles, most of them slivers.
 */
export interface Lattice {
  readonly origin: readonly [number, number, number]
  readonly cell: number
  /** block coordinates, 3 a block */
  readonly blocks: number[]
  /** block number by key */
  readonly map: Map<number, number>
  /** 64 bytes a block: one bit a node, byte (z * 8 + y), bit x */
  rows: Uint8Array
}

const BIAS = 1 << 16
export const blockKey = (x: number, y: number, z: number) => ((x + BIAS) * 131072 + (y + BIAS)) * 131072 + (z + BIAS)

export function newLattice(box: ArrayLike<number>, cell: number): Lattice {
  const shift = Math.SQRT2 - 1
  return {
    origin: [box[0] - cell * (3 + shift), box[1] - cell * (3 + shift * shift), box[2] - cell * (3 + shift * 0.618)],
    cell,
    blocks: [],
    map: new Map(),
    rows: u8(64 * 1024),
  }
}

export const blockCount = (l: Lattice) => l.blocks.length / 3

/** Number of the block with these coordinates, made when it is not there yet. */
export function touchBlock(l: Lattice, x: number, y: number, z: number): number {
  const key = blockKey(x, y, z)
  let b = l.map.get(key)
  if (b === undefined) {
    b = l.blocks.length / 3
    l.map.set(key, b)
    l.blocks.push(x, y, z)
    if (64 * (b + 1) > l.rows.length) {
      const grown = u8(2 * l.rows.length)
      grown.set(l.rows)
      l.rows = grown
    }
  }
  return b
}

/** Marks the nodes of every cell that holds a point, and of the cells around it: the band in which the surface lies. */
export function markBand(l: Lattice, xyz: Float32Array): void {
  const inv = 1 / l.cell
  const [ox, oy, oz] = l.origin
  // first the cells with points, so that each is widened once
  const cells: Lattice = { ...l, blocks: [], map: new Map(), rows: u8(64 * 1024) }
  let lastKey = NaN
  let b = -1
  for (let i = 0; i < xyz.length; i += 3) {
    const x = Math.floor((xyz[i] - ox) * inv)
    const y = Math.floor((xyz[i + 1] - oy) * inv)
    const z = Math.floor((xyz[i + 2] - oz) * inv)
    const key = blockKey(x >> 3, y >> 3, z >> 3)
    if (key !== lastKey) {
      b = touchBlock(cells, x >> 3, y >> 3, z >> 3)
      lastKey = key
    }
    cells.rows[64 * b + (z & 7) * 8 + (y & 7)] |= 1 << (x & 7)
  }
  const n = blockCount(cells)
  const around = new Int32Array(27)
  for (let c = 0; c < n; c++) {
    const bx = cells.blocks[3 * c]
    const by = cells.blocks[3 * c + 1]
    const bz = cells.blocks[3 * c + 2]
    around.fill(-1)
    const at = (dx: number, dy: number, dz: number): number => {
      const k = (dz + 1) * 9 + (dy + 1) * 3 + dx + 1
      if (around[k] < 0) around[k] = touchBlock(l, bx + dx, by + dy, bz + dz)
      return around[k]
    }
    for (let row = 0; row < 64; row++) {
      const bits = cells.rows[64 * c + row]
      if (!bits) continue
      // cell x needs nodes x-1 .. x+2
      const wide = (bits << 8) | (bits << 7) | (bits << 9) | (bits << 10)
      const left = wide & 0xff
      const mid = (wide >> 8) & 0xff
      const right = (wide >> 16) & 0xff
      const cy = row & 7
      const cz = row >> 3
      for (let dz = -1; dz <= 2; dz++) {
        const z = cz + dz
        const zb = z < 0 ? -1 : z > 7 ? 1 : 0
        for (let dy = -1; dy <= 2; dy++) {
          const y = cy + dy
          const yb = y < 0 ? -1 : y > 7 ? 1 : 0
          const r = (z & 7) * 8 + (y & 7)
          if (mid) l.rows[64 * at(0, yb, zb) + r] |= mid
          if (left) l.rows[64 * at(-1, yb, zb) + r] |= left
          if (right) l.rows[64 * at(1, yb, zb) + r] |= right
        }
      }
    }
  }
}
