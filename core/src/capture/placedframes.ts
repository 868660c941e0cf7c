import type { Mat4 } from '../base/mat4.ts'
import { growingPrint } from './print.ts'
import { refinder, type Refinder } from './refind.ts'
import { growingSurface, type GrowingSurface } from './surface.ts'
import { shapeTracker, type ShapeTracker } from './trackshape.ts'

/** A frame with its place, scanner to model. */
export interface PlacedFrame {
  /** ms; no two frames have the same */
  time: number
  /** 3N mm, scanner coordinates */
  xyz: Float32Array
  /** N, how bright each point is; of no meaning where print does not count */
  levels?: Uint8Array | undefined
  pose: Mat4
}

/** points of a frame that count where print does: neighbours tell the same twice. Measured: with 16 000 no nearer, and 1.4 times as slow */
const PRINTED = 6000

type Seen = Pick<PlacedFrame, 'xyz' | 'levels'>

export interface PlacedFramesOptions {
  /** cubes of the surface, mm */
  spacing: number
  /** of a point across its surface, mm */
  noise: number
  /** largest error of a frame's place along any motion, mm */
  error: number
  /** a place may have to be found again by shape */
  findable: boolean
  /** frames are single lines */
  lines?: boolean
  /** what is printed on the surface counts as well */
  print?: boolean
}

/** The frames a live recording has placed, in the surface they make together: they enter, are taken out by a person, and come back to where they lay. */
export function placedFrames(o: PlacedFramesOptions) {
  const empty = () => {
    const surface = growingSurface(o.spacing, o.noise, o.lines)
    const print = o.print ? growingPrint(o.spacing, o.noise) : undefined
    const shape = shapeTracker(surface, { noise: o.noise, ...(print ? { print, most: PRINTED } : {}) })
    return { surface, print, shape, again: refinder(surface, shape, { noise: o.noise, error: o.error }) }
  }
  let { surface, print, shape, again } = empty()
  /** numbers frames as they enter, and again */
  let number = 0
  /** those that entered, by their time, in the order in which they did */
  let entries = new Map<number, { pose: Mat4; number: number; out: boolean }>()
  let count = 0
  let entered: { time: number; pose: Mat4 }[] = []
  let anew = false
  const put = ({ xyz, levels }: Seen, pose: Mat4, n: number) => {
    surface.addFrame(xyz, pose, n)
    if (levels) print?.addFrame(xyz, levels, pose)
    if (o.findable) again.add(xyz, pose, n)
    count++
  }
  return {
    surface: (): GrowingSurface => surface,
    shape: (): ShapeTracker => shape,
    again: (): Refinder => again,
    /** frames in the surface */
    count: () => count,
    /** What is told is of what comes now. */
    begun() {
      entered = []
      anew = false
    },
    /** since begun() */
    told: () => ({ entered, anew }),
    add({ time, pose, ...seen }: PlacedFrame) {
      entered.push({ time, pose })
      entries.set(time, { pose, number, out: false })
      put(seen, pose, number++)
    },
    /** Takes out what a person leaves out. */
    leaveOut(time: number, { xyz, levels }: Seen) {
      const e = entries.get(time)
      if (!e || e.out) return
      if (levels) print?.addFrame(xyz, levels, e.pose, -1)
      surface.takeFrame(xyz, e.pose, e.number)
      if (o.findable) again.take(xyz, e.pose, e.number)
      e.out = true
      count--
    },
    /** Brings it back to where it lay. */
    takeIn(time: number, seen: Seen) {
      const e = entries.get(time)
      if (!e?.out) return
      put(seen, e.pose, e.number)
      e.out = false
    },
    beginAnew() {
      ;({ surface, print, shape, again } = empty())
      entries = new Map()
      count = 0
      anew = true
    },
    /** Newest of the frames that are in the surface. */
    newest() {
      let last: { time: number; pose: Mat4 } | undefined
      for (const [time, e] of entries) if (!e.out && (!last || time > last.time)) last = { time, pose: e.pose }
      return last
    },
  }
}
export type PlacedFrames = ReturnType<typeof placedFrames>
