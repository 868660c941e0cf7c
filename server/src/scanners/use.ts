import { OakError } from '@oak-gauge/core/base/errors.ts'
import type { Stereo } from '@oak-gauge/core/calibrate/camera.ts'
import { CalibrationRow, NoteRow, type ScannerRow } from '../db/scannermodels.ts'
import type { ScannerKeeper } from './keeper.ts'

/** Makes a calibration the one in use, be it new or an earlier one, and gives it to the scanner. All of them stay. */
export async function putIntoUse(keeper: ScannerKeeper, scanner: ScannerRow, id: string): Promise<void> {
  const c = await CalibrationRow.findOne({ where: { id, scannerId: scanner.id, state: 'done' }, attributes: { exclude: ['observations'] } })
  if (!c?.result) throw new OakError('not-found', 'There is no such calibration of this scanner.')
  if (c.judgement?.verdict !== 'go')
    throw new OakError('no-go', 'This calibration is not fit for use.', {
      remedy: c.judgement?.findings.find((f) => f.level === 'stop')?.remedy ?? 'Calibrate again.',
    })
  const { link } = keeper.of(scanner.id)
  await link?.order({ type: 'use-calibration', calibration: { id: c.id, stereo: c.result.stereo } })
  const earlier = scanner.calibrationId ? await CalibrationRow.findByPk(scanner.calibrationId, { attributes: ['at'] }) : null
  const back = earlier !== null && c.at < earlier.at
  await scanner.update({ calibrationId: c.id, usedAt: new Date() })
  const day = c.at.toISOString().slice(0, 16).replace('T', ' ')
  await NoteRow.create({ scannerId: scanner.id, text: back ? `Rolled back to the calibration of ${day}.` : `The calibration of ${day} was put into use.` })
  keeper.changed(scanner.id)
}

/** What the scanner is taken for until it is calibrated anew: the calibration in use, else what it brought along. */
export async function believedStereo(scanner: ScannerRow, own: Stereo): Promise<Stereo> {
  const row = scanner.calibrationId ? await CalibrationRow.findByPk(scanner.calibrationId, { attributes: ['result'] }) : null
  return row?.result?.stereo ?? own
}
