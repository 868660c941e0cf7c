import type { ScannerSpec } from '../scanner/spec.ts'
import type { CalibrationResult } from './calibration.ts'
import { certificateEnds, type Plate } from './plate.ts'

export interface Finding {
  /** 'stop' forbids the use, 'look' wants attention */
  level: 'stop' | 'look'
  message: string
  remedy: string
}
export interface Judgement {
  verdict: 'go' | 'no-go'
  findings: Finding[]
}

const LEAST_COVERED = 0.5
const GOOD_COVERED = 0.7

/**
 * Whether a calibration may be used, and what is odd about it. previous: the one in use so far, null for the first.
 * A wrong pitch does not show in the reprojection error: every length scales. It shows in the baseline, which the casing of the
 * scanner fixes: when that changes while the focal lengths stay, the plate's file is to be doubted before the scanner.
 */
export function judgeCalibration(r: CalibrationResult, spec: ScannerSpec, plate: Plate, on: Date, previous: CalibrationResult | null): Judgement {
  const findings: Finding[] = []
  const add = (level: Finding['level'], message: string, remedy: string) => findings.push({ level, message, remedy })
  if (r.rms > spec.limits.reprojection)
    add(
      'stop',
      `The reprojection error of ${r.rms.toFixed(3)} px is above the limit of ${spec.limits.reprojection.toFixed(3)} px.`,
      'Hold the plate still, clean it, check that it is flat, and calibrate again.',
    )
  const out = r.poses.flatMap((p, i) => (p.out ? [i + 1] : []))
  if (out.length)
    add(
      out.length > r.poses.length / 4 ? 'stop' : 'look',
      `${out.length === 1 ? 'Pose' : 'Poses'} ${out.join(', ')} did not fit the others and ${out.length === 1 ? 'was' : 'were'} left out.`,
      'The plate or the scanner moved during the exposure. Hold still next time.',
    )
  if (r.covered < GOOD_COVERED)
    add(
      r.covered < LEAST_COVERED ? 'stop' : 'look',
      `Only ${Math.round(100 * r.covered)} % of the image was covered.`,
      'Take poses in the corners of the image as well: distortion is not known where no dot was seen.',
    )
  if (r.tiltRange < 25)
    add(
      'look',
      `The plate was tilted by no more than ${r.tiltRange.toFixed(0)} degrees from one pose to another.`,
      'Tilt it more: the focal length is told by the tilt.',
    )
  if (certificateEnds(plate.certificate) < on)
    add(
      'look',
      `The certificate of ${plate.name} ended on ${certificateEnds(plate.certificate).toISOString().slice(0, 10)}.`,
      'Have the plate measured again. Until then lengths are only as good as the plate is unchanged.',
    )
  const [low, high] = spec.platePitch
  if (plate.pitch < low || plate.pitch > high)
    add('look', `A pitch of ${plate.pitch} mm does not suit this lens (${low} to ${high} mm).`, 'Take the plate that belongs to this lens.')
  const reference = previous ?? designResult(spec)
  const scale = r.baseline / reference.baseline - 1
  const focal = (r.stereo.left.fx / reference.stereo.left.fx + r.stereo.right.fx / reference.stereo.right.fx) / 2 - 1
  // the casing keeps the baseline to some hundredths of a percent in use, and to half a percent in making
  const usual = previous ? 0.002 : 0.006
  if (Math.abs(scale) > usual && (previous === null || Math.abs(focal) < 0.3 * Math.abs(scale)))
    add(
      'stop',
      `The distance of the cameras comes out ${Math.abs(100 * scale).toFixed(2)} % ${scale > 0 ? 'larger' : 'smaller'} than ${previous ? 'last time' : 'by design'}${previous ? ', with the same focal lengths' : ''}.`,
      'Most likely the pitch in the plate file is wrong by that much: compare it with the certificate, and check with the ball bar.',
    )
  return { verdict: findings.some((f) => f.level === 'stop') ? 'no-go' : 'go', findings }
}

const designResult = (spec: ScannerSpec) => ({
  baseline: Math.hypot(spec.design.pose[3], spec.design.pose[7], spec.design.pose[11]),
  stereo: spec.design,
})
