import type { CaptureRun, LightRequest, PointsFrame } from '@oak-gauge/contract'
import { OakError } from '@oak-gauge/core/base/errors.ts'
import type { Mat4 } from '@oak-gauge/core/base/mat4.ts'
import { autoExposure, levelsAround } from '@oak-gauge/core/capture/exposing.ts'
import type { ScannerKeeper } from '../scanners/keeper.ts'

/** mm about a spot that is to be well exposed */
const SPOT = 12
/** ms between two looks at the light */
const LOOK = 250

/** With what light a scanner records: its exposure, by itself or by hand, and its pattern. */
export class Light {
  private readonly keeper: ScannerKeeper
  private readonly scanner: string
  private readonly patterns: readonly string[]
  private next = autoExposure()
  private seen: { dark: number; bright: number } | null = null
  private lookedAt = 0
  /** what it asked for by itself and has no answer to yet */
  private underWay: Promise<void> | null = null
  auto: boolean
  /** in the model */
  private spot: [number, number, number] | null = null

  constructor(keeper: ScannerKeeper, scanner: string, patterns: readonly string[], auto: boolean) {
    this.keeper = keeper
    this.scanner = scanner
    this.patterns = patterns
    this.auto = auto
  }

  view(): CaptureRun['light'] {
    const { state } = this.keeper.of(this.scanner)
    return {
      exposure: state?.exposure ?? null,
      auto: this.auto,
      spot: this.spot,
      pattern: state?.pattern ?? null,
      patterns: [...this.patterns],
      seen: this.seen,
    }
  }

  /** By hand: what is named changes, and an exposure that is named stays. Throws what the scanner answers. */
  async set({ exposure, auto: byItself, spot, pattern }: LightRequest): Promise<void> {
    const before = this.auto
    if (exposure !== undefined || pattern !== undefined) {
      // what it asks for by itself would come after this, and undo it
      if (exposure !== undefined) this.auto = false
      try {
        if (this.underWay) await this.underWay
        await this.order({ exposure, pattern })
      } catch (e) {
        this.auto = before
        throw e
      }
    }
    const auto = spot ? true : byItself
    if (auto && (!before || spot)) this.next = autoExposure()
    this.auto = auto ?? this.auto
    if (exposure !== undefined || auto !== undefined) this.spot = spot ?? null
  }
  /** The model has other axes: a place of it is none any more. */
  beginAnew(): void {
    this.spot = null
  }

  /** A frame that came. failed: the scanner did not take the exposure that it asks for; pose: scanner to model, where that is known */
  frame(
    { count, xyz, brightness, dark, bright }: Pick<PointsFrame, 'count' | 'brightness' | 'dark' | 'bright'> & Partial<Pick<PointsFrame, 'xyz'>>,
    failed: (e: unknown) => void,
    pose?: Mat4,
  ): void {
    if (dark !== undefined && bright !== undefined) this.seen = { dark, bright }
    if (this.auto && count > 0 && !brightness) {
      this.auto = false
      failed(new OakError('no-levels', 'This scanner does not say how bright its points are: its exposure cannot set itself.', { remedy: 'Set it by hand.' }))
    }
    const now = performance.now()
    const exposure = this.keeper.of(this.scanner).state?.exposure
    if (!this.auto || this.underWay || !brightness || exposure === undefined || now - this.lookedAt < LOOK) return
    this.lookedAt = now
    // where the spot is not seen, or nobody knows where it is, it stays
    const lit = this.spot
      ? { intensity: pose && xyz ? levelsAround(xyz, brightness, pose, this.spot, SPOT) : new Uint8Array(0) }
      : { intensity: brightness, ...(this.seen ?? {}) }
    const to = this.next(exposure, lit)
    if (to === exposure) return
    // frames that are under way were taken with the one before
    this.underWay = this.order({ exposure: to })
      .catch(failed)
      .finally(() => (this.underWay = null))
  }

  private async order(to: { exposure?: number | undefined; pattern?: string | undefined }): Promise<void> {
    const { exposure, pattern } = to
    const named = { ...(exposure === undefined ? {} : { exposure }), ...(pattern === undefined ? {} : { pattern }) }
    await this.keeper.link(this.scanner).order({ type: 'set', ...named })
    this.keeper.lit(this.scanner, named)
  }
}
