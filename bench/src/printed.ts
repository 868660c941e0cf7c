import { identity, invertRigid, multiply, transformPoint, type Mat4 } from '@oak-gauge/core/base/mat4.ts'
import { quantile } from '@oak-gauge/core/base/stats.ts'
import { liveTracker } from '@oak-gauge/core/capture/livetracker.ts'
import { trueOptics } from '@oak-gauge/core/scanner/optics.ts'
import { MATERIALS, type Thing } from '@oak-gauge/core/scanner/scene.ts'
import { takeShot } from '@oak-gauge/core/scanner/shot.ts'
import { buildBvh } from '@oak-gauge/core/space/bvh.ts'
import { box, divide } from '@oak-gauge/demo/divide.ts'
import { DEVICES } from '@oak-gauge/scanners/devices.ts'
import { handAt } from './capture.ts'

type Add = (what: string, got: string, must: string, aim: string) => void

const FRAMES = 60
/** frames once round, as in the rows by shape: from one to the next it goes some 3 mm */
const ROUND = 600
const SPACING = 1.4
const NOISE = 0.08

/** A flat plate of 320 x 220 mm under Birch by hand, held by nothing but what is printed on it: a tenth of a round, in single and in double steps. */
export function benchPrinted(add: Add): void {
  const { spec, seed, noise } = DEVICES['birch']
  const optics = trueOptics(spec.design, seed, { celsius: 28, days: 3, drops: 0 })
  const mesh = divide(box([-160, -110, -6], [160, 110, 0]), 8)
  const bvh = buildBvh(mesh, 'median')
  const led = (print: number, step: number) => {
    const things: Thing[] = [{ kind: 'mesh', mesh, bvh, pose: identity(), material: MATERIALS.matte, ...(print ? { print } : {}) }]
    const tracker = liveTracker({ spacing: SPACING, noise: NOISE, by: 'print' })
    const times: number[] = []
    const offs: number[] = []
    const sigmas: number[] = []
    let points = 0
    let axes: Mat4 | undefined
    for (let k = 0; k < FRAMES; k++) {
      const pose = handAt((k * step) / (ROUND - 1), [0, 0, 0], spec.range.ideal)
      const { xyz, intensity } = takeShot(spec, optics, optics, things, {
        pose,
        pattern: 'area',
        exposure: 1,
        stride: spec.moving?.stride,
        phase: (k * 0.37) % 1,
        noise,
        seed: 7919 * k + 5,
      })
      points += xyz.length / 3 / FRAMES
      const began = performance.now()
      const s = tracker.feed({ time: 60 * k, xyz, levels: intensity })
      times.push(performance.now() - began)
      axes ??= multiply(s.pose, invertRigid(pose))
      if (s.state !== 'steady' || !s.laid) continue
      const [is, was] = [s.laid.pose, multiply(axes, pose)].map((p) => transformPoint(p, 0, 0, spec.range.ideal))
      offs.push(Math.hypot(...is.map((v, i) => v - was[i])))
      sigmas.push(Math.max(...s.laid.sigmas))
    }
    times.sort((a, b) => a - b)
    const ms = `${(times.reduce((a, b) => a + b, 0) / FRAMES).toFixed(0)} / ${quantile(times, 0.95).toFixed(0)} ms`
    return { frames: tracker.frames(), points, last: offs.at(-1) ?? NaN, worst: Math.max(...offs), sigma: quantile(sigmas.sort(), 0.5), ms }
  }
  for (const [print, step] of [
    [8, 1],
    [16, 1],
    [16, 2],
  ]) {
    const r = led(print, step)
    add(
      `flat plate, blots of ${print} mm, ${step * 3} mm a frame, ${(r.points / 1000).toFixed(1)} k points each: placed / off in the end / at the most / stated of a frame / a frame, mean / 95 %`,
      `${r.frames} of ${FRAMES} / ${r.last.toFixed(2)} / ${r.worst.toFixed(2)} / ${r.sigma.toFixed(2)} mm / ${r.ms}`,
      '67 ms (15 a second)',
      '33 ms',
    )
  }
  add('the same plate, blank: placed', `${led(0, 1).frames} of ${FRAMES}`, '1 (weak: free to slide)', '')
}
