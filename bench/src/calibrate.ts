import jpeg from 'jpeg-js'
import { existsSync, readFileSync } from 'node:fs'
import { identity, multiply } from '@oak-gauge/core/base/mat4.ts'
import { readBar, verify, type Verified } from '@oak-gauge/core/calibrate/ballbar.ts'
import { barPositions } from '@oak-gauge/core/calibrate/barpositions.ts'
import { bundleAdjust } from '@oak-gauge/core/calibrate/bundle.ts'
import { calibrateStereo, type CalibrationResult, type StereoObservation } from '@oak-gauge/core/calibrate/calibration.ts'
import { cameraToArray, project, type Stereo } from '@oak-gauge/core/calibrate/camera.ts'
import { centreBias } from '@oak-gauge/core/calibrate/centrebias.ts'
import { closedForm, planePose } from '@oak-gauge/core/calibrate/closedform.ts'
import { homography } from '@oak-gauge/core/calibrate/homography.ts'
import { dotDiameters, platePoints, plateSchema, type Plate } from '@oak-gauge/core/calibrate/plate.ts'
import { readPlate } from '@oak-gauge/core/calibrate/readplate.ts'
import { placed } from '@oak-gauge/core/calibrate/targets.ts'
import { trueOptics } from '@oak-gauge/core/scanner/optics.ts'
import { plateImage, rayTable } from '@oak-gauge/core/scanner/plateimage.ts'
import { transformPoint } from '@oak-gauge/core/base/mat4.ts'
import { BALL_BARS, PLATES } from '@oak-gauge/scanners/artefacts.ts'
import { DEVICES, type Device } from '@oak-gauge/scanners/devices.ts'
import { StandIn } from '@oak-gauge/scanners/standin.ts'

type Add = (what: string, got: string, must: string, aim: string) => void

/** Calibration from rendered images and verification on the ball bar, with Alder's optics; and the public images. */
export function benchCalibration(add: Add): void {
  const alder = DEVICES['alder']
  const plate = PLATES.find((p) => p.id === 'Q12') ?? PLATES[0]
  const standIn = warm(alder)
  const truth = trueNow(alder, 0)
  const { observations, rms, reading } = twentyPoses(truth, plate, alder)
  add('dot centres in rendered images, noise of 2 grey levels, rms of the distance', `${rms.toFixed(4)} px`, '0.03 px', '0.01 px')
  add('reading one image of 1024 x 768, 247 dots, median', `${reading.toFixed(0)} ms`, '', '')
  const input = { plate, observations, width: 1024, height: 768 }
  calibrateStereo(input)
  const began = performance.now()
  const result = calibrateStereo(input)
  const seconds = (performance.now() - began) / 1000
  const focal = Math.max(
    ...(['left', 'right'] as const).flatMap((s) => [result.stereo[s].fx / truth[s].fx - 1, result.stereo[s].fy / truth[s].fy - 1].map(Math.abs)),
  )
  const centre = Math.max(...(['left', 'right'] as const).flatMap((s) => [result.stereo[s].cx - truth[s].cx, result.stereo[s].cy - truth[s].cy].map(Math.abs)))
  add(
    'focal lengths / principal point found again, 20 poses, worst',
    `${(100 * focal).toFixed(4)} % / ${centre.toFixed(3)} px`,
    '0.05 % / 0.5 px',
    '0.01 % / 0.1 px',
  )
  add('solving 20 stereo poses of 247 dots', `${seconds.toFixed(2)} s`, '5 s', '1 s')
  publicImages(add)
  const before = onTheBar(standIn, result)
  add('ball bar of 300 mm after calibrating, largest distance error of 7 positions', `${Math.abs(before.rows[2].value).toFixed(4)} mm`, '0.03 mm', '0.01 mm')
  let found = 0
  let restored = 0
  const drops = 5
  for (let k = 1; k <= drops; k++) {
    standIn.obey({ type: 'drop', id: 0 }, () => undefined)
    if (onTheBar(standIn, result).verdict === 'fail') found++
    const again = calibrateStereo({ ...input, observations: twentyPoses(trueNow(alder, k), plate, alder, 8).observations })
    if (onTheBar(standIn, again).verdict === 'pass') restored++
  }
  add('dropped: ball bar says no-go / calibrating anew restores it', `${found} of ${drops} / ${restored} of ${drops}`, 'always', '')
}

const DAYS = 200
const warm = (d: Device) => new StandIn(d, { drops: 0, made: Date.now() - DAYS * 86_400_000, calibration: null }, { factor: 1, now: () => 36_000_000 })
/** The optics of that stand-in: warm in a room of 20.6 °C, rounded as it rounds. */
const trueNow = (d: Device, drops: number) => trueOptics(d.spec.design, d.seed, { celsius: Math.round((20.6 + d.rise) / 0.1) * 0.1, days: DAYS, drops })

function twentyPoses(truth: Stereo, plate: Plate, d: Device, count = 20): { observations: StereoObservation[]; rms: number; reading: number } {
  const rays = [rayTable(truth.left), rayTable(truth.right)]
  const points = platePoints(plate, 20.6)
  const diameters = dotDiameters(plate)
  const bias = new Float64Array(2)
  const uv = new Float64Array(2)
  let [ss, n] = [0, 0]
  const times: number[] = []
  const observations = Array.from({ length: count }, (_, i): StereoObservation => {
    const z = [0.8, 1, 1.2][i % 3] * d.spec.range.ideal
    const pose = placed(truth, plate, 45 * Math.sin(3.1 * i), 35 * Math.cos(2.2 * i), z, 28 * Math.sin(2.4 * i), 28 * Math.cos(1.7 * i), 25 * Math.sin(i))
    const [left, right] = [truth.left, truth.right].map((camera, k) => {
      const m = k ? multiply(truth.pose, pose) : pose
      const image = plateImage(camera, rays[k], { plates: [{ plate, pose: m, celsius: 20.6 }], seed: 2 * i + k })
      const began = performance.now()
      const r = readPlate(image, plate)
      times.push(performance.now() - began)
      const c = cameraToArray(camera)
      r.ids.forEach((id, j) => {
        const [x, y] = [points[3 * id], points[3 * id + 1]]
        project(c, ...transformPoint(m, x, y, 0), uv)
        centreBias(c, m, x, y, 0, diameters[id] / 2, bias)
        ss += (r.pixels[2 * j] - uv[0] - bias[0]) ** 2 + (r.pixels[2 * j + 1] - uv[1] - bias[1]) ** 2
        n++
      })
      return { ids: Array.from(r.ids), pixels: Array.from(r.pixels) }
    })
    return { left, right, celsius: 20.6 }
  })
  return { observations, rms: Math.sqrt(ss / n), reading: times.sort((a, b) => a - b)[times.length >> 1] }
}

/** Seven positions of the bar, points computed with a calibration. */
export function onTheBar(s: StandIn, calibration: CalibrationResult): Verified {
  const bar = BALL_BARS[0]
  s.obey({ type: 'use-calibration', id: 0, calibration: { id: 'bench', stereo: calibration.stereo } }, () => undefined)
  const readings = barPositions(s.device.spec.range).map(({ pose }) => {
    s.obey({ type: 'bench', id: 0, things: [{ kind: 'bar', bar, pose: Array.from(pose) }] }, () => undefined)
    const points: number[] = []
    s.obey({ type: 'shot', id: 0, frames: s.device.spec.shotFrames }, (_, [xyz]) => {
      for (const v of xyz as Float32Array) points.push(v)
    })
    return readBar(points, bar, 20.6)
  })
  return verify(readings, bar, s.device.spec.limits)
}

/** The images the tests carry (OpenCV samples, Apache-2.0): own corners, own solution, against the published rms. */
function publicImages(add: Add): void {
  const folder = 'core/test/fixtures/calibration'
  if (!existsSync(folder)) return
  const reference = JSON.parse(readFileSync(`${folder}/opencv_left_mono.json`, 'utf8')) as {
    corners_px: Record<string, unknown>
    reference: { left_all_13: { k1k2p1p2k3: { opencv: { rms_px: number } } } }
  }
  const board = plateSchema.parse({
    format: 'oak-gauge plate',
    version: 1,
    id: 'B',
    name: 'Board',
    pattern: 'chessboard',
    columns: 9,
    rows: 6,
    pitch: 25,
    certificate: { number: '-', date: '2020-01-01', expansion: 10 },
  })
  const points = platePoints(board)
  const flat = Float64Array.from({ length: 2 * (points.length / 3) }, (_, i) => points[3 * (i >> 1) + (i & 1)])
  const pixels = Object.keys(reference.corners_px).map((name) => {
    const { width, height, data } = jpeg.decode(readFileSync(`${folder}/images/${name}`), { useTArray: true })
    return readPlate({ width, height, data: Uint8Array.from({ length: width * height }, (_, i) => data[4 * i]) }, board).pixels
  })
  const maps = pixels.map((p) => homography(flat, p)).filter((m) => m !== undefined)
  const camera = closedForm(maps, 640, 480)
  if (!camera) return
  const poses = pixels.map((p) => planePose(camera, points, p) ?? identity())
  const r = bundleAdjust(
    pixels.map((p) => [{ points, pixels: p }]),
    { cameras: [camera], rig: [identity()], poses },
    { loss: 'none' },
  )
  const off = 100 * Math.abs(r.rms / reference.reference.left_all_13.k1k2p1p2k3.opencv.rms_px - 1)
  add('public calibration images, own corners: rms against the reference library’s', `${r.rms.toFixed(6)} px, ${off.toFixed(3)} % off`, '2 %', '0.2 %')
}
