import type { CaptureRun as RunView, ToScanner } from '@oak-gauge/contract'

export interface TableProgress {
  /** angles that are to come, degrees, and for how many shots of the present round that began */
  ahead: number[]
  asked: number
  /** angles of the shots that were taken */
  taken: number[]
}
export const plannedTable = (angles: readonly number[]): TableProgress => ({ ahead: [...angles], asked: angles.length, taken: [] })

type Order = Extract<ToScanner, { type: 'turn' | 'shot' }>
type Unnumbered<T> = T extends unknown ? Omit<T, 'id'> : never
/** what is missing; known: cubes of the surface */
type Next = (NonNullable<RunView['next']> & { known: number }) | null

/** The recording that it shoots for. */
export interface TableHost {
  order(m: Unnumbered<Order>): Promise<void>
  /** frames of a full shot */
  frames: number
  /** a shot was taken: stored, and waited for */
  taken(): Promise<void>
  /** looks what is missing when all that came is tracked; `heard` is called with it */
  look(): void
  /** it is through, or it failed; not called when the link broke: it goes on when that is back */
  through(problem?: unknown): Promise<void>
  linked(): boolean
}

/** A round has to make the places fewer that could be seen and are not, by so much of them, or the surface larger: what is new ends in the open as well. */
const FEWER = 0.05
const LARGER = 0.01

/** The turntable before a scanner that stands: shots at the angles of a plan, then where something is missing. */
export class Turntable {
  private readonly host: TableHost
  private round: Promise<void> | undefined
  private held = true
  private missing = false
  private waits: ((next: Next) => void) | undefined
  readonly progress: TableProgress

  constructor(host: TableHost, progress: TableProgress) {
    this.host = host
    this.progress = progress
  }

  view(): NonNullable<RunView['table']> {
    const { ahead, asked, taken } = this.progress
    return { angle: taken.at(-1) ?? null, shots: asked, taken: asked - ahead.length, missing: this.missing }
  }
  stands(): { turn: number; taken: number[] } {
    const { taken } = this.progress
    return { turn: taken.at(-1) ?? 0, taken }
  }

  /** Begins with these angles, or goes on with those that are left. */
  go(angles?: readonly number[]): void {
    this.lead(() => this.shoot(angles))
  }
  /** Where something is missing, once, or until nothing is gained by it. */
  again(until: 'once' | 'gained'): void {
    this.missing = true
    this.lead(async () => {
      for (let before = { missing: Infinity, known: 0 }; ;) {
        const next = await new Promise<Next>((resolve) => {
          this.waits = resolve
          this.host.look()
        })
        const turns = next?.views.flatMap((v) => (v.turn === null ? [] : [v.turn])) ?? []
        const missing = next ? next.poor - next.never : 0
        const known = next?.known ?? 0
        if (!turns.length || (missing > (1 - FEWER) * before.missing && known < (1 + LARGER) * before.known)) return
        before = { missing, known }
        await this.shoot(turns)
        if (this.held || until === 'once') return
      }
    })
  }
  /** What is missing. */
  heard(next: Next): void {
    this.waits?.(next)
    this.waits = undefined
  }

  /** The shot that is being taken is waited for. */
  async hold(): Promise<void> {
    this.held = true
    this.missing = false
    this.heard(null)
    await this.round?.catch(() => undefined)
    this.round = undefined
  }

  private lead(shoot: () => Promise<void>): void {
    shoot()
      .then(() => this.host.through())
      .catch((e: unknown) => (this.host.linked() ? this.host.through(e) : undefined))
  }
  private async shoot(angles?: readonly number[]): Promise<void> {
    const { progress } = this
    if (angles) {
      progress.ahead = [...angles]
      progress.asked = angles.length
    }
    this.held = false
    await (this.round = this.shots())
  }
  private async shots(): Promise<void> {
    const { ahead, taken } = this.progress
    while (ahead.length && !this.held) {
      await this.host.order({ type: 'turn', degrees: ahead[0] })
      if (this.held) return
      // what is looked for from here on is so of this angle
      taken.push(ahead[0])
      try {
        await this.host.order({ type: 'shot', frames: this.host.frames })
      } catch (e) {
        taken.pop()
        throw e
      }
      ahead.shift()
      await this.host.taken()
    }
  }
}
