import { findCorners } from './corners.ts'
import type { GreyImage } from './image.ts'
import { findLattices, type Lattice } from './lattice.ts'
import type { Plate } from './plate.ts'
import { emptyReading, type PlateReading, type PlateTrouble } from './platereading.ts'

const STRENGTHS = [0.2, 0.3, 0.1, 0.45]
/** Columns a row is shifted by, rows a column is: without round dots the slant of a board is not known, and a diagonal may have been taken for a side. */
const SLANTS = [
  [0, 0],
  [1, 0],
  [-1, 0],
  [0, 1],
  [0, -1],
] as const

/**
 * Finds a chessboard and its inner corners. A chessboard has no marks: it has to be in view as a whole, and one of its two numbers of
 * corners must be odd, so that the dark corner square tells which way up it is.
 */
export function readChessboard(image: GreyImage, plate: Plate): PlateReading {
  const corners = findCorners(image)
  const reading = emptyReading()
  const stop = (code: PlateTrouble['code'], message: string, remedy: string): PlateReading => ({ ...reading, trouble: { code, message, remedy } })
  let most = 0
  // false corners of the background grow onto the board's grid: fewer of them with a stronger limit, but weak corners go with them
  for (const limit of STRENGTHS) {
    const n = corners.strength.filter((s) => s >= limit).length
    const [grid] = findLattices(corners.centres.subarray(0, 2 * n))
    most = Math.max(most, (grid as Lattice | undefined)?.members.length ?? 0)
    let boards: [number, number][][] = []
    for (const s of grid ? SLANTS : []) if (!boards.length) boards = wholeBoards(image, corners.centres, slanted(grid, s), plate)
    if (boards.length === 1) return { ...reading, ids: Int32Array.from(boards[0], (_, i) => i), pixels: Float64Array.from(boards[0].flat()), seen: 1 }
    if (boards.length > 1)
      return stop(
        'wrong-plate',
        `The board in view has more corners than ${plate.name}, ${plate.columns} x ${plate.rows}.`,
        'Choose the file that belongs to this board.',
      )
  }
  if (most < 12) return stop('no-plate', 'No chessboard is in view.', 'Bring the whole board into both images.')
  return stop(
    'half-out',
    `The ${plate.columns} x ${plate.rows} corners of ${plate.name} are not all in view.`,
    'Bring the whole board into view, and check that the file belongs to it: without marks, a part of a board cannot be told from another.',
  )
}

const slanted = (g: Lattice, [along, down]: readonly [number, number]): Lattice => ({
  members: g.members,
  places: g.places.map((v, k) => v + (k & 1 ? down * g.places[k - 1] : along * g.places[k + 1])),
})

/** Places in the grid, and turns, at which every corner of the board is there and the dark squares are where they belong. */
function wholeBoards(image: GreyImage, centres: Float64Array, grid: Lattice, plate: Plate): [number, number][][] {
  const at = new Map<number, number>()
  const key = (i: number, j: number) => i * 4096 + j
  grid.members.forEach((m, k) => at.set(key(grid.places[2 * k], grid.places[2 * k + 1]), m))
  const boards: [number, number][][] = []
  for (let k = 0; k < grid.members.length; k++)
    for (const [ci, cj] of [
      [1, 0],
      [0, 1],
      [-1, 0],
      [0, -1],
    ]) {
      // this corner as the first, columns along (ci, cj), rows a quarter turn on
      const list: [number, number][] = []
      for (let r = 0; r < plate.rows && list.length === r * plate.columns; r++)
        for (let c = 0; c < plate.columns; c++) {
          const m = at.get(key(grid.places[2 * k] + c * ci - r * cj, grid.places[2 * k + 1] + c * cj + r * ci))
          if (m === undefined) break
          list.push([centres[2 * m], centres[2 * m + 1]])
        }
      if (list.length === plate.columns * plate.rows && alternates(image, list, plate.columns)) boards.push(list)
    }
  return boards
}

/** Share of the corners whose squares may look otherwise than they should: a reflection, a finger. */
const ODD = 0.1

/** The square before the first corner is dark, the one beside it bright, and so on turn about: read along a diagonal they do not. */
function alternates(image: GreyImage, list: [number, number][], columns: number): boolean {
  let wrong = 0
  let all = 0
  for (let k = 0; k + columns + 1 < list.length; k++) {
    if (k % columns === columns - 1) continue
    all++
    if (isDark(image, list[k], list[k + 1], list[k + columns]) !== ((k % columns) + Math.floor(k / columns)) % 2 < 1) wrong++
  }
  return isDark(image, list[0], list[1], list[columns]) && wrong <= ODD * all
}

function isDark(image: GreyImage, a: [number, number], b: [number, number], d: [number, number]): boolean {
  const square = (s: number, t: number) => {
    const x = Math.round(a[0] + s * (b[0] - a[0]) + t * (d[0] - a[0]))
    const y = Math.round(a[1] + s * (b[1] - a[1]) + t * (d[1] - a[1]))
    return x >= 0 && y >= 0 && x < image.width && y < image.height ? image.data[y * image.width + x] : NaN
  }
  return square(-0.5, -0.5) + square(0.5, 0.5) < square(0.5, -0.5) + square(-0.5, 0.5)
}
