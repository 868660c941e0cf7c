import { median } from '../base/stats.ts'
import { readChessboard } from './chessboard.ts'
import { findDots, type Dots } from './dots.ts'
import { identify } from './identify.ts'
import type { GreyImage } from './image.ts'
import { findLattices, type Lattice } from './lattice.ts'
import { plateCount, type Plate } from './plate.ts'
import { emptyReading, type PlateReading, type PlateTrouble } from './platereading.ts'

export type { PlateReading, PlateTrouble }

const LEAST_SHARE = 0.35
const BLURRED = 2.3
const SMALL = 3

/** Finds a plate in an image and says which dot is which; or, in plain words, why not. */
export function readPlate(image: GreyImage, plate: Plate): PlateReading {
  if (plate.pattern === 'chessboard') return readChessboard(image, plate)
  const dots = findDots(image)
  const grids = findLattices(dots.centres, dots.shapes)
  const bright = shareAbove(image, 253)
  const reading = emptyReading()
  const stop = (code: PlateTrouble['code'], message: string, remedy: string): PlateReading => ({ ...reading, trouble: { code, message, remedy } })
  const grid = grids[0] as Lattice | undefined
  if (!grid || grid.members.length < 12) {
    if (bright > 0.25)
      return stop('overexposed', 'The image is overexposed: the dots drown in white.', 'Shorten the exposure, or turn the plate out of the glare.')
    if (meanOf(image) < 14) return stop('too-dark', 'The image is too dark for the dots to be seen.', 'Lengthen the exposure, or come nearer.')
    const soft = edgeSoftness(image)
    if (soft !== null && soft > 2 * BLURRED)
      return stop('blurred', 'The image is too blurred for the dots to be seen.', 'Hold still, and stay inside the working range.')
    return stop('no-plate', 'No plate is in view.', 'Bring the plate into the middle of both images, dots towards the scanner.')
  }
  const of = (a: Float64Array) => median(Array.from(grid.members, (m) => a[m]))
  reading.radius = median(Array.from(grid.members, (m) => Math.sqrt(dots.major[m] * dots.minor[m])))
  reading.blur = of(dots.blur)
  reading.ground = of(dots.ground)
  reading.ink = of(dots.ink)
  // two pieces of one grid, cut by a cable or a finger, fit one plate; two plates do not
  const other = grids[1] as Lattice | undefined
  if (other && other.members.length >= Math.max(12, 0.25 * grid.members.length) && !sameGrid(dots, grid, other))
    return stop('two-plates', 'Two plates are in view.', 'Take one of them away: which one is meant cannot be told.')
  const found = identify(dots, grid, plate)
  if (found === 'none')
    return stop(
      'wrong-plate',
      `The dots in view are not those of ${plate.name}.`,
      'Choose the file that belongs to this plate, or take the plate that belongs to the file.',
    )
  if (found === 'several') {
    const cut = grid.members.length < 0.7 * plateCount(plate)
    return cut
      ? stop('half-out', 'The plate is partly out of view, and its large dots are among what is missing.', 'Bring the large dots back into view.')
      : stop('marks-hidden', 'The large dots of the plate are not seen.', 'Uncover them: they tell which dot is which.')
  }
  reading.seen = found.ids.length / plateCount(plate)
  const saturated = Array.from(found.dots).filter((d) => dots.ground[d] > 252).length / found.dots.length
  if (saturated > 0.3)
    return stop(
      'overexposed',
      'The plate is overexposed: white spreads into the dots and shifts their centres.',
      'Shorten the exposure, or turn the plate out of the glare.',
    )
  if (reading.blur > BLURRED) return stop('blurred', 'The image is blurred.', 'Hold still, and stay inside the working range.')
  if (reading.radius < SMALL)
    return stop(
      'dots-too-small',
      `The dots are only ${(2 * reading.radius).toFixed(1)} px across.`,
      'Take a plate with a larger pitch for this lens, or come nearer.',
    )
  if (reading.seen < LEAST_SHARE) {
    if (2 * reading.radius > image.width / 22)
      return stop('dots-too-large', 'Only a few dots of the plate fit into the image.', 'Take a plate with a smaller pitch for this lens.')
    return stop('half-out', `Only ${Math.round(100 * reading.seen)} % of the dots are in view.`, 'Bring the plate back into the image.')
  }
  reading.ids = found.ids
  reading.pixels = Float64Array.from(Array.from(found.dots).flatMap((d) => [dots.centres[2 * d], dots.centres[2 * d + 1]]))
  if (reading.seen < 0.75)
    reading.advice = { code: 'half-out', message: `${Math.round(100 * reading.seen)} % of the dots are in view.`, remedy: 'It can be used; more is better.' }
  return reading
}

function sameGrid(dots: Dots, a: Lattice, b: Lattice): boolean {
  const step = (g: Lattice): [number, number] | undefined => {
    const at = new Map<number, number>()
    g.members.forEach((_, m) => at.set(g.places[2 * m] * 4096 + g.places[2 * m + 1], m))
    const steps: [number, number][] = []
    g.members.forEach((d, m) => {
      const o = at.get((g.places[2 * m] + 1) * 4096 + g.places[2 * m + 1])
      if (o === undefined) return
      const e = g.members[o]
      steps.push([dots.centres[2 * e] - dots.centres[2 * d], dots.centres[2 * e + 1] - dots.centres[2 * d + 1]])
    })
    if (!steps.length) return undefined
    const x = median(steps.map((s) => s[0]))
    const y = median(steps.map((s) => s[1]))
    return [x, y]
  }
  const s = step(a)
  const t = step(b)
  if (!s || !t) return true
  const ls = Math.hypot(...s)
  const lt = Math.hypot(...t)
  // the axes may be named otherwise: the angle counts modulo a quarter turn
  const angle = (((((Math.atan2(s[1], s[0]) - Math.atan2(t[1], t[0])) * 180) / Math.PI) % 90) + 90) % 90
  return Math.abs(Math.log(ls / lt)) < 0.12 && Math.min(angle, 90 - angle) < 6
}

function shareAbove({ data }: GreyImage, level: number): number {
  let n = 0
  for (let i = 0; i < data.length; i += 3) if (data[i] >= level) n++
  return (3 * n) / data.length
}

function meanOf({ data }: GreyImage): number {
  let s = 0
  for (let i = 0; i < data.length; i += 7) s += data[i]
  return (7 * s) / data.length
}

/** Width of the strongest edges, px: contrast over steepest slope of a coarse raster of windows; null when there is no contrast. */
function edgeSoftness({ width, height, data }: GreyImage): number | null {
  const widths: number[] = []
  const w = 48
  for (let y = 0; y + w < height; y += w)
    for (let x = 0; x + w < width; x += w) {
      let [lo, hi, slope] = [255, 0, 0]
      for (let v = 2; v < w - 2; v += 2)
        for (let u = 2; u < w - 2; u++) {
          const at = (y + v) * width + x + u
          const c = data[at]
          if (c < lo) lo = c
          if (c > hi) hi = c
          slope = Math.max(slope, Math.abs(data[at + 2] - data[at - 2]) / 4, Math.abs(data[at + 2 * width] - data[at - 2 * width]) / 4)
        }
      // steepest slope of an edge blurred by sigma: contrast / (sigma sqrt(2 pi))
      if (hi - lo > 35 && slope > 0) widths.push((hi - lo) / slope / Math.sqrt(2 * Math.PI))
    }
  return widths.length < 4 ? null : median(widths)
}
