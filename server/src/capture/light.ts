import type { CaptureRun, LightRequest, PointsFrame } from '@oak-gauge/contract'
import { OakError } from '@oak-gauge/core/base/errors.ts'
import { autoExposure } from '@oak-gauge/core/capture/exposing.ts'
import type { ScannerKeeper } from '../scanners/keeper.ts'

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
  private asked = false
  auto: boolean

  constructor(keeper: ScannerKeeper, scanner: string, patterns: readonly string[], auto: boolean) {
    this.keeper = keeper
    this.scanner = scanner
    this.patterns = patterns
    this.auto = auto
  }

  view(): CaptureRun['light'] {
    const { state } = this.keeper.of(this.scanner)
    return { exposure: state?.exposure ?? null, auto: this.auto, pattern: state?.pattern ?? null, patterns: [...this.patterns], seen: this.seen }
  }

  /** By hand: what is named changes, and an exposure that is named stays. Throws what the scanner answers. */
  async set({ exposure, auto, pattern }: LightRequest): Promise<void> {
    if (exposure !== undefined || pattern !== undefined) await this.order({ exposure, pattern })
    if (auto && !this.auto) this.next = autoExposure()
    this.auto = auto ?? (exposure === undefined && this.auto)
  }

  /** A frame that came. failed: the scanner did not take the exposure that it asks for */
  frame({ count, brightness, dark, bright }: Pick<PointsFrame, 'count' | 'brightness' | 'dark' | 'bright'>, failed: (e: unknown) => void): void {
    if (dark !== undefined && bright !== undefined) this.seen = { dark, bright }
    if (this.auto && count > 0 && !brightness) {
      this.auto = false
      failed(new OakError('no-levels', 'This scanner does not say how bright its points are: its exposure cannot set itself.', { remedy: 'Set it by hand.' }))
    }
    const now = performance.now()
    const exposure = this.keeper.of(this.scanner).state?.exposure
    if (!this.auto || this.asked || !brightness || exposure === undefined || now - this.lookedAt < LOOK) return
    this.lookedAt = now
    const to = this.next(exposure, { intensity: brightness, ...(this.seen ?? {}) })
    if (to === exposure) return
    // frames that are under way were taken with the one before
    this.asked = true
    this.order({ exposure: to })
      .catch(failed)
      .finally(() => (this.asked = false))
  }

  private async order(to: { exposure?: number | undefined; pattern?: string | undefined }): Promise<void> {
    const { exposure, pattern } = to
    const named = { ...(exposure === undefined ? {} : { exposure }), ...(pattern === undefined ? {} : { pattern }) }
    await this.keeper.link(this.scanner).order({ type: 'set', ...named })
    this.keeper.lit(this.scanner, named)
  }
}
