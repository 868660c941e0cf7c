import { defineKernel } from '../base/run.ts'
import { OakError } from '../base/errors.ts'
import { readBar, type BallBar, type BarReading } from './ballbar.ts'
import { calibrateStereo, type CalibrationInput, type CalibrationResult } from './calibration.ts'
import type { GreyImage } from './image.ts'
import type { Plate } from './plate.ts'
import { readPlate, type PlateReading } from './readplate.ts'

/** What a thread sends back in place of an error: errors lose their fields on the way. */
export interface Failed {
  failed: { code: string; message: string; where: string; remedy: string }
}
const caught = <R>(f: () => R): R | Failed => {
  try {
    return f()
  } catch (e) {
    if (!(e instanceof OakError)) throw e
    return { failed: { code: e.code, message: e.message, where: e.where, remedy: e.remedy } }
  }
}
/** The result, or the error thrown that came back in its place. */
export function orThrow<R extends object>(r: R | Failed): R {
  if ('failed' in r) throw new OakError(r.failed.code, r.failed.message, r.failed)
  return r
}

/** Plate readings of images [start, end). */
export const readPlates = defineKernel('read-plates', ({ images, plate }: { images: GreyImage[]; plate: Plate }, start: number, end: number): PlateReading[] =>
  images.slice(start, end).map((i) => readPlate(i, plate)),
)
export const solveCalibration = defineKernel('solve-calibration', (input: CalibrationInput): CalibrationResult | Failed => caught(() => calibrateStereo(input)))
export const measureBar = defineKernel('measure-bar', (a: { points: Float32Array; bar: BallBar; celsius: number }): BarReading | Failed =>
  caught(() => readBar(a.points, a.bar, a.celsius)),
)
