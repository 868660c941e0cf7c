import { ArtefactRow, CalibrationRow, NoteRow, ScannerRow, VerificationRow } from '../db/scannermodels.ts'
import { identity } from '@oak-gauge/core/base/mat4.ts'
import { readBar, verify, type BallBar } from '@oak-gauge/core/calibrate/ballbar.ts'
import { barPositions } from '@oak-gauge/core/calibrate/barpositions.ts'
import { calibrateStereo } from '@oak-gauge/core/calibrate/calibration.ts'
import { judgeCalibration } from '@oak-gauge/core/calibrate/judge.ts'
import type { Plate } from '@oak-gauge/core/calibrate/plate.ts'
import { targetPoses } from '@oak-gauge/core/calibrate/targets.ts'
import { trueOptics } from '@oak-gauge/core/scanner/optics.ts'
import { BALL_BARS, PLATES } from '@oak-gauge/scanners/artefacts.ts'
import { DEVICES } from '@oak-gauge/scanners/devices.ts'
import { rehearseObservations } from '@oak-gauge/core/scanner/rehearse.ts'
import { StandIn } from '@oak-gauge/scanners/standin.ts'

const DAY = 86_400_000
const ROOM = 20.6
/** days before today on which the demo workshop calibrated; the last one was verified */
const HISTORY: Record<string, number[]> = { alder: [30, 23, 16, 9, 2], birch: [26, 12], hazel: [15, 8, 1], rowan: [24] }

/** The workshop's shelf: plates, bars, and four stand-ins, switched off. Once. */
export async function stockShelf(): Promise<void> {
  if ((await ScannerRow.count()) > 0 || (await ArtefactRow.count()) > 0) return
  for (const certificate of PLATES) await ArtefactRow.create({ kind: 'plate', certificate })
  for (const certificate of BALL_BARS) await ArtefactRow.create({ kind: 'ball-bar', certificate })
  const made = Date.now() - 300 * DAY
  for (const [key, d] of Object.entries(DEVICES))
    await ScannerRow.create({ name: d.name, model: d.model, serial: d.serial, spec: d.spec, standIn: { device: key, drops: 0, made, calibration: null } })
}

/** of these the last calibration was verified with the ball bar as well */
const VERIFIED = ['alder', 'hazel']

/** A quarter past eight, give or take, so many days ago. */
function morning(ago: number): Date {
  const d = new Date(Date.now() - ago * DAY)
  d.setHours(8, 6 + ((ago * 7) % 23), 0, 0)
  return d
}

/** What the workshop measured in the last weeks: computed from the stand-ins' optics of those days. Takes some seconds; once. */
export async function rehearseHistory(tell: (scanner: string) => Promise<void>): Promise<void> {
  for (const [key, days] of Object.entries(HISTORY)) {
    const device = DEVICES[key]
    const scanner = await ScannerRow.findOne({ where: { serial: device.serial } })
    if (!scanner?.standIn || (await CalibrationRow.count({ where: { scannerId: scanner.id } })) > 0) continue
    const { spec } = device
    const plate = plateFor(device.spec.platePitch)
    let previous = null as CalibrationRow | null
    for (const ago of days) {
      const at = morning(ago)
      const age = (at.getTime() - scanner.standIn.made) / DAY
      const truth = trueOptics(spec.design, device.seed, { celsius: ROOM + device.rise, days: Math.floor(age * 4) / 4, drops: 0 })
      const poses = targetPoses(spec, truth, plate).map((t) => t.pose)
      const observations = rehearseObservations(truth, plate, poses, ROOM, device.seed + ago)
      const { width, height } = spec.design.left
      const result = calibrateStereo({ plate, observations, width, height })
      const judgement = judgeCalibration(result, spec, plate, at, previous?.result ?? null)
      previous = await CalibrationRow.create({
        scannerId: scanner.id,
        previousId: previous?.id ?? null,
        at,
        state: 'done',
        way: spec.turntable ? 'turntable' : 'hand',
        plate,
        celsius: ROOM,
        cold: false,
        observations,
        result,
        judgement,
      })
      await NoteRow.create({ scannerId: scanner.id, at, text: `The calibration of ${at.toISOString().slice(0, 16).replace('T', ' ')} was put into use.` })
    }
    if (!previous?.result) continue
    const used = new Date(Math.min(Date.now(), previous.at.getTime() + 0.4 * DAY))
    const lasting = { ...scanner.standIn, calibration: { id: previous.id, stereo: previous.result.stereo } }
    await scanner.update({ calibrationId: previous.id, usedAt: used, standIn: lasting })
    if (VERIFIED.includes(key)) await verifyThen(scanner, previous, new Date(previous.at.getTime() + 1_500_000))
    await tell(scanner.id)
  }
}

/** The verification an hour after a calibration, by the stand-in itself. */
async function verifyThen(scanner: ScannerRow, calibration: CalibrationRow, at: Date): Promise<void> {
  const { standIn, spec } = scanner
  if (!standIn) return
  const bar = barFor(spec.barLength)
  // warm, and as old as it was then
  const device = new StandIn(DEVICES[standIn.device], { ...standIn, made: standIn.made + (Date.now() - at.getTime()) }, { factor: 1, now: () => 36_000_000 })
  const readings = barPositions(spec.range).map(({ pose }) => {
    device.obey({ type: 'bench', id: 0, things: [{ kind: 'bar', bar, pose: Array.from(pose) }] }, () => undefined)
    const parts: number[] = []
    device.obey({ type: 'shot', id: 0, frames: spec.shotFrames }, (head, [xyz]) => {
      const m = head.kind === 'points' && head.pose ? head.pose : identity()
      const p = xyz as Float32Array
      for (let i = 0; i < p.length; i += 3)
        for (let r = 0; r < 3; r++) parts.push(m[4 * r] * p[i] + m[4 * r + 1] * p[i + 1] + m[4 * r + 2] * p[i + 2] + m[4 * r + 3])
    })
    return readBar(parts, bar, ROOM)
  })
  const { form, size, distance } = spec.limits
  await VerificationRow.create({
    scannerId: scanner.id,
    calibrationId: calibration.id,
    at,
    bar,
    celsius: ROOM,
    cold: false,
    limits: { form, size, distance },
    readings,
    result: verify(readings, bar, { form, size, distance }),
  })
}

const plateFor = ([low, high]: [number, number]): Plate => PLATES.find((p) => p.pitch >= low && p.pitch <= high) ?? PLATES[0]
const barFor = (length: number): BallBar => BALL_BARS.reduce((a, b) => (Math.abs(b.distance - length) < Math.abs(a.distance - length) ? b : a))
