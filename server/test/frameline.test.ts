import { describe, expect, it } from '@jest/globals'
import { FATES } from '@oak-gauge/core/capture/timeline.ts'
import { FrameLine } from '../src/capture/frameline.ts'

const [placed, weak, lost, late, out] = FATES.map((_, k) => k)
/** Frames every 100 ms from 5000 ms on. */
function recorded(n: number): FrameLine {
  const line = new FrameLine()
  for (let k = 0; k < n; k++) line.add(5000 + 100 * k)
  return line
}
const fates = (line: FrameLine) => Array.from({ length: line.count }, (_, k) => line.since(0)[4 * k + 1])

describe('a recording frame by frame', () => {
  it('is late until it is tracked; what is told of a frame stays until something else is', () => {
    const line = recorded(1500)
    expect(fates(line)).toEqual(Array<number>(1500).fill(late))
    line.told([5000, placed, 0.01, 70, 5100, lost, NaN, 70, 999, placed, 0, 0])
    // placed later, when its place was found
    line.told([5100, placed, NaN, NaN])
    expect([...line.since(0).subarray(0, 4)].map((v) => Number(v.toFixed(3)))).toEqual([0, placed, 0.01, 70])
    expect([...line.since(1).subarray(0, 4)].map((v) => Number(v.toFixed(3)))).toEqual([0.1, placed, NaN, 70])
    expect([line.since(1499).length, line.since(1500).length, line.since(9999).length]).toEqual([4, 0, 0])
    line.began()
    expect([line.since(0)[1], line.since(0)[3], line.since(0)[4 * 9 + 1]]).toEqual([weak, 0, late])
  })
  it('what is left out is so whatever is told of it, and is what it was when it is taken in again', () => {
    const line = recorded(20)
    expect(line.leaveOut([[0.5, 0.9]])).toEqual({ from: 5500, to: 5900 })
    line.told([5500, placed, 0.01, 9])
    expect(fates(line).map((f) => f === out)).toEqual(Array.from({ length: 20 }, (_, k) => k >= 5 && k <= 9))
    expect(line.isOut(5500)).toBe(true)
    // one end moves: only those between are others
    expect(line.leaveOut([[0.5, 0.7]])).toEqual({ from: 5800, to: 5900 })
    expect(line.leaveOut([[0.5, 0.7]])).toBeUndefined()
    line.leaveOut([])
    expect([fates(line)[5], fates(line)[6]]).toEqual([placed, late])
  })
  it('a span holds nothing of what comes later', () => {
    const line = recorded(20)
    expect(
      line.within([
        [1, 1e6],
        [3, 0.5],
        [7, 8],
      ]),
    ).toEqual([[0.5, 1.9]])
    line.leaveOut(line.within([[1, 1e6]]))
    line.add(7000)
    expect([line.isOut(6900), line.isOut(7000)]).toEqual([true, false])
  })
})
