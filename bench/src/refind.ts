import { fromRotationVector, invertRigid, multiply, transformPoint, translation, type Mat4 } from '@oak-gauge/core/base/mat4.ts'
import { seeded } from '@oak-gauge/core/base/random.ts'
import { liveTracker } from '@oak-gauge/core/capture/livetracker.ts'

type Add = (what: string, got: string, must: string, aim: string) => void

/** A hand that leads a scanner back is off by so much, about what it looked at: mm, degrees. */
const BESIDE = [
  [5, 2],
  [15, 5],
  [30, 8],
  [50, 12],
] as const
const WAYS = 8
/** frames that are recorded before it is torn away, and those within which it is found */
const LED = 60
const WITHIN = 24
/** mm: found elsewhere */
const WRONG = 1.5

/** Lost and led back: how often the place is found again by its shape, and how often a wrong one. far: to what it looks at, mm */
export function benchRefind(
  frames: { pose: Mat4; xyz: Float32Array }[],
  shot: (pose: Mat4, seed: number) => Float32Array,
  middle: number[],
  far: number,
  o: { spacing: number; noise: number; every: number },
  add: Add,
): void {
  for (const [mm, degrees] of BESIDE) {
    let [found, wrong, seen, seed] = [0, 0, 0, 0]
    for (let k = 0; k < WAYS; k++) {
      const r = seeded(1000 * mm + k)
      const tracker = liveTracker(o)
      const from = Math.floor(r.next() * (frames.length - LED))
      let time = 0
      // of the axes that the model has: those of its first frame, or of the one with which it began anew
      let axes: Mat4 | undefined
      const feed = (pose: Mat4, xyz: Float32Array) => {
        const s = tracker.feed({ time: (time += o.every), xyz })
        if (!axes || s.anew) axes = multiply(pose, invertRigid(s.pose))
        return s
      }
      for (let i = 0; i < LED; i++) feed(frames[from + i].pose, frames[from + i].xyz)
      const unit = (length: number) => {
        const v = [r.gauss(), r.gauss(), r.gauss()]
        return v.map((x) => (x * length) / Math.hypot(...v))
      }
      const [s, w] = [unit(mm), unit((degrees * Math.PI) / 180)]
      const beside = multiply(multiply(translation(s[0], s[1], s[2] + far), fromRotationVector(w[0], w[1], w[2])), translation(0, 0, -far))
      for (let i = 0; i < 4; i++) feed(frames[from + LED - 1].pose, new Float32Array(0))
      // where it was steady last, which may lie some frames back
      const ghost = multiply(axes as Mat4, tracker.ghost() as Mat4)
      for (let i = 0; i < WITHIN; i++) {
        const pose = multiply(ghost, multiply(translation(2 * Math.sin(i / 3), 2 * Math.cos(i / 4), Math.sin(i)), beside))
        const { state, pose: told } = feed(pose, shot(pose, ++seed))
        if (state !== 'steady') continue
        const at = transformPoint(multiply(axes as Mat4, multiply(told, invertRigid(pose))), middle[0], middle[1], middle[2])
        if (Math.hypot(...at.map((v, c) => v - middle[c])) > WRONG) wrong++
        else found++
        seen += i + 1
        break
      }
    }
    add(
      `lost, and led back by hand to ${mm} mm and ${degrees} degrees beside: found / wrong, after frames`,
      `${found} of ${WAYS} / ${wrong}, ${(seen / Math.max(1, found + wrong)).toFixed(0)}`,
      mm === 5 ? '95 %; wrong under 0.1 %' : '',
      mm === 5 ? '99 %; 0' : '',
    )
  }
}
