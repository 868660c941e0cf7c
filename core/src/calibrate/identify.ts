import type { Dots } from './dots.ts'
import type { Lattice } from './lattice.ts'
import { isLarge, type Plate } from './plate.ts'

/** Which dot of the plate each seen dot is. */
export interface Identified {
  /** row * columns + column */
  ids: Int32Array
  /** indices into the list of dots */
  dots: Int32Array
  /** large dots seen where the plate has them */
  marks: number
}

/** Large dots, told from their neighbours in the grid by area: perspective and distance fall out. */
export function largeDots(dots: Dots, grid: Lattice): Uint8Array {
  const n = grid.members.length
  const area = Float64Array.from(grid.members, (d) => dots.major[d] * dots.minor[d])
  const at = new Map<number, number>()
  for (let m = 0; m < n; m++) at.set(grid.places[2 * m] * 4096 + grid.places[2 * m + 1], m)
  return Uint8Array.from(area, (own, m) => {
    const around: number[] = []
    for (let di = -2; di <= 2; di++)
      for (let dj = -2; dj <= 2; dj++) {
        const o = di || dj ? at.get((grid.places[2 * m] + di) * 4096 + grid.places[2 * m + 1] + dj) : undefined
        if (o !== undefined) around.push(area[o])
      }
    around.sort((a, b) => a - b)
    // the lower third: at a corner of the plate large dots can be half of the neighbours
    const usual = around[Math.floor(around.length / 3)]
    return usual !== undefined && own > 1.32 * usual ? 1 : 0
  })
}

/**
 * Lays the grid that is seen over the plate in all four turns and all shifts, and takes the one that the large dots allow. Hidden dots do
 * no harm as long as two of the large ones are seen, or one and the places where the others would have to be.
 * 'several': more than one way is left (too few large dots in view); 'none': no way fits (another plate).
 */
export function identify(dots: Dots, grid: Lattice, plate: Plate): Identified | 'several' | 'none' {
  const n = grid.members.length
  const large = largeDots(dots, grid)
  const seenLarge = large.reduce((s, v) => s + v, 0)
  const mark = new Uint8Array(plate.columns * plate.rows)
  for (let i = 0; i < mark.length; i++) mark[i] = isLarge(plate, i % plate.columns, Math.floor(i / plate.columns)) ? 1 : 0
  let best: { score: number; ids: Int32Array; inside: number; marks: number } | undefined
  let second = -Infinity
  for (let turn = 0; turn < 4; turn++) {
    const c = new Int32Array(n)
    const r = new Int32Array(n)
    let [minC, minR, maxC, maxR] = [Infinity, Infinity, -Infinity, -Infinity]
    for (let m = 0; m < n; m++) {
      const [i, j] = [grid.places[2 * m], grid.places[2 * m + 1]]
      c[m] = [i, -j, -i, j][turn]
      r[m] = [j, i, -j, -i][turn]
      minC = Math.min(minC, c[m])
      maxC = Math.max(maxC, c[m])
      minR = Math.min(minR, r[m])
      maxR = Math.max(maxR, r[m])
    }
    // a few false dots may stick out on a side
    const slackC = Math.max(1, maxC - minC + 1 - plate.columns)
    const slackR = Math.max(1, maxR - minR + 1 - plate.rows)
    if (slackC > 2 || slackR > 2) continue
    for (let oc = -minC - slackC; oc <= plate.columns - 1 - maxC + slackC; oc++)
      for (let or = -minR - slackR; or <= plate.rows - 1 - maxR + slackR; or++) {
        const ids = new Int32Array(n).fill(-1)
        let [inside, hits, wrong] = [0, 0, 0]
        for (let m = 0; m < n; m++) {
          const x = c[m] + oc
          const y = r[m] + or
          if (x < 0 || y < 0 || x >= plate.columns || y >= plate.rows) {
            // a dot outside of the plate is odd, a large one there is worse
            wrong += 0.4 + large[m]
            continue
          }
          const id = y * plate.columns + x
          ids[m] = id
          inside++
          if (mark[id] && large[m]) hits++
          else if (mark[id] !== large[m]) wrong++
        }
        const score = hits - wrong
        if (best && score <= best.score) {
          second = Math.max(second, score)
          continue
        }
        second = best ? Math.max(second, best.score) : second
        best = { score, ids, inside, marks: hits }
      }
  }
  if (!best) return 'none'
  const wrong = best.marks - best.score
  if (seenLarge === 0) return 'several'
  if (wrong > 0.4 + 0.04 * n || best.marks < Math.min(2, seenLarge)) return 'none'
  if (second >= best.score - 0.9) return 'several'
  const keep = Array.from(best.ids.keys()).filter((m) => best.ids[m] >= 0)
  return { ids: Int32Array.from(keep, (m) => best.ids[m]), dots: Int32Array.from(keep, (m) => grid.members[m]), marks: best.marks }
}
