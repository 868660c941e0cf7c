import { invertRigid, transformPoint, type Mat4 } from '../base/mat4.ts'
import { checkCancelled, type RunContext } from '../base/run.ts'
import type { TrackedFrame } from './closing.ts'
import type { Held } from './motions.ts'
import { growingPrint } from './print.ts'
import { growingSurface } from './surface.ts'
import { shapeTracker } from './trackshape.ts'

export interface RelayOptions {
  /** cubes of the surface, mm */
  spacing: number
  /** noise of a point across its surface, mm */
  noise: number
  /** largest error of a frame's place along any motion, mm (1 sigma): one that is known less well stays where it is. Default 0.3 */
  error?: number
  /** what holds frame i besides its shape */
  held?: (i: number) => Held | undefined
  /** what is printed on the surface counts as well */
  print?: boolean
}

export interface Relaid {
  poses: Mat4[]
  /** how far each frame was moved, mm at its middle */
  moved: Float64Array
  /** how well each is held by the surface, along its weakest motion, mm (1 sigma); Infinity where something is free */
  sigmas: Float64Array
}

/** ms after which the host is let in */
const TURN = 20

/**
 * Lays each frame once more on the surface that all of them make together: the first ones were laid when hardly any of it was known. `poses` bring the frames
 * to one another but for single ones that are off by some tenths of a millimetre (closeLoops). Once: each frame is part of what it is laid on, and a second
 * time lets all of them drift (bracket, 600 frames: rms 0.024 mm before, worst 0.192; once 0.026, worst 0.049; twice 0.041 and 0.074).
 */
export async function relayFrames(frames: readonly TrackedFrame[], poses: readonly Mat4[], o: RelayOptions, ctx: RunContext): Promise<Relaid> {
  const surface = growingSurface(o.spacing, o.noise)
  const print = o.print ? growingPrint(o.spacing, o.noise) : undefined
  const tracker = shapeTracker(surface, { ...(print ? { print } : {}), noise: o.noise, gate: Math.max(6 * o.noise, 0.4 * o.spacing), points: 3000 })
  const out: Relaid = { poses: [], moved: new Float64Array(frames.length), sigmas: new Float64Array(frames.length).fill(Infinity) }
  let began = performance.now()
  const turn = async (done: number) => {
    if (performance.now() - began < TURN) return
    checkCancelled(ctx)
    ctx.progress(done)
    await new Promise((resolve) => setTimeout(resolve))
    began = performance.now()
  }
  for (let i = 0; i < frames.length; i++) {
    const { xyz, levels } = frames[i]
    surface.addFrame(xyz, poses[i], i)
    if (levels) print?.addFrame(xyz, levels, poses[i])
    await turn((0.2 * i) / frames.length)
  }
  for (let i = 0; i < frames.length; i++) {
    const laid = tracker.lay(frames[i].xyz, poses[i], o.held?.(i), frames[i].levels)
    out.sigmas[i] = laid ? Math.max(...laid.sigmas) : Infinity
    const held = laid && out.sigmas[i] <= (o.error ?? 0.3)
    out.poses.push(held ? laid.pose : Float64Array.from(poses[i]))
    if (held) {
      const [x, y, z] = laid.middle
      out.moved[i] = shift(poses[i], laid.pose, x, y, z)
    }
    await turn(0.2 + (0.8 * i) / frames.length)
  }
  return out
}

/** How far what now lies at a place moved, from one pose to another. */
function shift(from: Mat4, to: Mat4, x: number, y: number, z: number): number {
  const own = transformPoint(invertRigid(to), x, y, z)
  const was = transformPoint(from, own[0], own[1], own[2])
  return Math.hypot(x - was[0], y - was[1], z - was[2])
}
