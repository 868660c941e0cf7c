import type { Contribution } from './contribution.ts'

/** How well a pose is known: of one pass against the anchor, or of a part on its nominal. Plain numbers, as ledgers hold it. */
export interface PoseUncertainty {
  /** name of the item */
  of: string
  /** centre of the turns, mm */
  about: readonly number[]
  /** 6 x 6, row major, of (turn vector in rad, shift in mm); null where it is not known */
  covariance: readonly number[] | null
  /** motions that nothing determines: turn (rad) and shift (mm) of one unit at the part's own radius */
  free?: readonly (readonly number[])[] | undefined
  /** where its surface lies: min x y z, max x y z, mm */
  box?: readonly number[] | undefined
}

/** A free motion that moves a place by more than this share of what it moves the part leaves the place unknown. */
const MOVES = 0.02

/** How far six small numbers move a place along a direction: its row of derivatives. */
function rowAt(about: readonly number[], at: readonly number[], n: readonly number[]): number[] {
  const [x, y, z] = [at[0] - about[0], at[1] - about[1], at[2] - about[2]]
  return [y * n[2] - z * n[1], z * n[0] - x * n[2], x * n[1] - y * n[0], n[0], n[1], n[2]]
}

/**
 * Standard uncertainty (mm) of a place along a direction that comes from a pose: the covariance carried on to the place
 * (JCGM 100:2008, 5.2.2). at, direction: three numbers each in the coordinates of the covariance; direction of length 1.
 */
export function placeUncertainty(p: PoseUncertainty, at: readonly number[], direction: readonly number[]): Contribution['u'] {
  const row = rowAt(p.about, at, direction)
  if (!p.covariance) return 'unknown'
  for (const f of p.free ?? []) if (Math.abs(row.reduce((s, v, k) => s + v * f[k], 0)) > MOVES) return 'unknown'
  let s = 0
  for (let i = 0; i < 6; i++) for (let j = 0; j < 6; j++) s += row[i] * row[j] * p.covariance[6 * i + j]
  return Math.sqrt(Math.max(0, s))
}

/**
 * The same of a place that several passes may have seen: of those whose box holds it the least certain one, since the mean of
 * several is no worse than the worst of them. Where no box holds it, the least certain of all.
 */
export function worstPlaceUncertainty(list: readonly PoseUncertainty[], at: readonly number[], direction: readonly number[]): Contribution['u'] {
  const near = list.filter((p) => !p.box || [0, 1, 2].every((k) => at[k] >= grown(p.box as number[], k, -1) && at[k] <= grown(p.box as number[], k, 1)))
  let worst = 0
  for (const p of near.length ? near : list) {
    const u = placeUncertainty(p, at, direction)
    if (u === 'unknown') return u
    worst = Math.max(worst, u)
  }
  return worst
}

/** A twentieth beyond the box, for surface that was smoothed or lies between points. */
const grown = (box: readonly number[], k: number, side: 1 | -1) =>
  box[side < 0 ? k : k + 3] + side * 0.05 * Math.max(...[0, 1, 2].map((c) => box[c + 3] - box[c]))
