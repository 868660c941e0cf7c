import { invertRigid, motionTimes, multiply, rotationAngleDeg, type Mat4 } from '../base/mat4.ts'

/** share of the height of the picture */
const FILLS = 0.95
/** strips lie side by side so far, as a share of the width of what is seen */
const OVERLAPPING = 0.8
/** how steeply the sides are looked at from above, degrees */
const DOWN = 35
/** a turn takes as long as so many mm */
const TURNING = 60
/** nothing comes nearer than so many times the nearest distance */
const NEARER = 1.05
/** mm a second at which a line is led: at seventeen frames a second 1.5 mm from one to the next */
export const PACE = 25
/** mm beyond the part in which a strip begins and ends */
const BEYOND = 10

/** How long the line of a scanner is at a distance, mm: it fills nearly the height of the picture. */
export const lineLength = ({ height, fx }: { height: number; fx: number }, distance: number) => (FILLS * height * distance) / fx

export interface Way {
  /** as long as it takes, mm; turns count as if they were some */
  length: number
  /** body to world, z up; t: along it from 0 to 1 */
  at(t: number): Mat4
}

/**
 * The way of a scanner that sees one narrow line over what it measures: strips side by side, from above and from four sides. box: min x y z, max x y z, mm;
 * range: working distance, mm; width: length of the line at the ideal distance, mm. The line lies along y of the body, which goes along its x.
 */
export function wayOver(box: ArrayLike<number>, range: { near: number; ideal: number }, width: number): Way {
  const poses = sides().flatMap(({ look, along }) => strips(box, range, width, look, along))
  const lengths = poses.slice(1).map((p, i) => apart(poses[i], p))
  const length = lengths.reduce((a, b) => a + b, 0)
  return {
    length,
    at(t) {
      let left = Math.max(0, Math.min(1, t)) * length
      let k = 0
      while (k < lengths.length - 1 && left > lengths[k]) left -= lengths[k++]
      return multiply(poses[k], motionTimes(multiply(invertRigid(poses[k]), poses[k + 1]), lengths[k] ? Math.min(1, left / lengths[k]) : 0))
    },
  }
}

type Vec = readonly [number, number, number]

/** From above, and from each side: where it looks, and along which axis it goes. */
function sides(): { look: Vec; along: Vec }[] {
  const a = (DOWN * Math.PI) / 180
  const [c, s] = [Math.cos(a), Math.sin(a)]
  return [
    { look: [0, 0, -1], along: [1, 0, 0] },
    { look: [0, c, -s], along: [1, 0, 0] },
    { look: [-c, 0, -s], along: [0, 1, 0] },
    { look: [0, -c, -s], along: [-1, 0, 0] },
    { look: [c, 0, -s], along: [0, -1, 0] },
  ]
}

function strips(box: ArrayLike<number>, range: { near: number; ideal: number }, width: number, look: Vec, along: Vec): Mat4[] {
  const across: Vec = [look[1] * along[2] - look[2] * along[1], look[2] * along[0] - look[0] * along[2], look[0] * along[1] - look[1] * along[0]]
  const [x0, x1] = extent(box, along)
  const [y0, y1] = extent(box, across)
  const [z0, z1] = extent(box, look)
  const many = Math.max(1, Math.ceil((y1 - y0) / (OVERLAPPING * width)))
  return Array.from({ length: many }, (_, k) => {
    const y = y0 + ((k + 0.5) / many) * (y1 - y0)
    // what lies within the box there is about at the ideal distance, and nothing of it nearer than the nearest
    const begins = Math.min(...[-0.5, 0, 0.5].map((s) => depth(box, look, across, Math.max(y0, Math.min(y1, y + s * width)))))
    const z = Math.min(begins + (z1 - z0) / 2 - range.ideal, begins - NEARER * range.near)
    const ends = k % 2 ? [x1 + BEYOND, x0 - BEYOND] : [x0 - BEYOND, x1 + BEYOND]
    return ends.map((x) => {
      const [px, py, pz] = [0, 1, 2].map((i) => x * along[i] + y * across[i] + z * look[i])
      return Float64Array.of(along[0], across[0], look[0], px, along[1], across[1], look[1], py, along[2], across[2], look[2], pz, 0, 0, 0, 1)
    })
  }).flat()
}

/** How far along `look` a box begins, at the place `y` along `across`: where sight first meets it in the plane of both. */
function depth(box: ArrayLike<number>, look: Vec, across: Vec, y: number): number {
  // axes that both are made of; along the third the box goes on as it is
  let best = -Infinity
  for (let i = 0; i < 3; i++) {
    if (Math.abs(look[i]) < 1e-9) continue
    const face = look[i] > 0 ? box[i] : box[i + 3]
    // the point y across + z look lies on that face; of those it enters by the last one
    best = Math.max(best, (face - y * across[i]) / look[i])
  }
  return best
}

/** Smallest and largest of a box along a direction. */
function extent(box: ArrayLike<number>, d: Vec): [number, number] {
  let [low, high] = [0, 0]
  for (let i = 0; i < 3; i++) {
    const [a, b] = [box[i] * d[i], box[i + 3] * d[i]]
    low += Math.min(a, b)
    high += Math.max(a, b)
  }
  return [low, high]
}

const apart = (a: Mat4, b: Mat4) =>
  Math.hypot(a[3] - b[3], a[7] - b[7], a[11] - b[11]) + (TURNING * rotationAngleDeg(multiply(invertRigid(a), b)) * Math.PI) / 180
