import { sendError, type SentError } from '@oak-gauge/core/base/errors.ts'
import { floorOf, isBeneath, type Floor } from '@oak-gauge/core/capture/floor.ts'
import type { GrowingSurface } from '@oak-gauge/core/capture/surface.ts'
import type { RaisedFloor, TrackStart } from './trackmessages.ts'

/** A surface that has grown by so much may show a larger table. */
const GROWN = 1.3

/** Where the floor of a recording is by now: what lies beneath helps to hold the frames, and is not shown. */
export class SeenFloor {
  private readonly map: TrackStart['map']
  private asked: RaisedFloor | null
  private found: Floor | undefined
  problem: SentError | null = null
  /** of the surface when it was looked for */
  private cubes = 0
  private beneath = 0

  constructor(asked: RaisedFloor | null, map: TrackStart['map']) {
    this.asked = asked
    this.map = map
  }
  ask(floor: RaisedFloor | null): void {
    this.asked = floor
    this.cubes = 0
    this.found = undefined
    this.problem = null
  }
  /** The surface began anew, and where it has other axes what was found is nowhere. */
  beginAnew(): void {
    this.ask(this.asked)
  }
  /** Where the surface has grown since, it is looked for again. True when what is known of it is new. */
  look(surface: GrowingSurface): boolean {
    const count = surface.cubes()
    if (!this.asked || count < GROWN * this.cubes || !count) return false
    this.cubes = count
    try {
      this.found = floorOf(this.asked, surface, this.map ?? undefined)
      this.problem = null
    } catch (e) {
      this.found = undefined
      this.problem = sendError(e)
    }
    const at = new Float32Array(6)
    let [all, beneath] = [0, 0]
    for (let k = 0; k < count; k++) {
      if (!surface.pointsIn(k)) continue
      surface.middleOf(k, at, 0)
      all++
      if (this.isBeneath(at[0], at[1], at[2])) beneath++
    }
    this.beneath = beneath / Math.max(1, all)
    return true
  }
  isBeneath(x: number, y: number, z: number, above = 0): boolean {
    return this.found !== undefined && isBeneath(this.found, (this.asked?.raise ?? 0) + above, x, y, z)
  }
  known(): boolean {
    return this.found !== undefined
  }
  view() {
    return { found: this.found ? { sigma: this.found.sigma, beneath: this.beneath } : null, problem: this.problem }
  }
}
