import { brickedCubes, longer, SIDE } from './bricks.ts'
import { emptyPlaces } from './emptyplaces.ts'
import { PATCH, PER, planeOf, VX } from './patch.ts'

/** points of a cube that count: beyond, single precision would no longer add them truly */
const MOST = 20_000
/** what scatters so many times more than by noise (variance) is no plane */
export const FLAT = 2.5
/** A patch is found anew when its cube holds so many times the points it held then. */
const STALE = 1.25
/** It takes so many points to tell how it lies, from cubes up to so many away where little was seen yet. */
const LEAST = 8
const FURTHEST = 3
/** Of single lines they must be so many times wider than the noise (variance), and than so much of a cube. */
const LINE = 16
const NARROW = 0.16

/**
 * The surface that grows while one records: cubes that hold the moments of the points in them, so that a point is added in constant time, a patch of any number
 * of points costs the same, and nothing of a frame has to be kept here. A sheet seen from both sides has two layers, by the direction one looked from. Cubes
 * lie in bricks of 64, found by hashing; the plane around each is kept until it has changed. side: of a cube, mm; the spacing that is
 * wanted. noise: of a point across its surface, mm. lines: points come in single lines, side by side at best: a patch must be wider than one. Throws RangeError
 * unless side > 0. Memory: 110 bytes a cube and 17 of its share of a brick, and 2 MB of what is remembered beside the
 * surface. Tried: finding patches anew for each frame (half of the time of a frame).
 */
export function growingSurface(side: number, noise: number, lines = false) {
  if (!(side > 0)) throw new RangeError(`cubes of ${side} mm`)
  const at = brickedCubes()
  let count = 0
  let room = 1 << 14
  /** slot of each cube */
  let slotOf = new Int32Array(room)
  let data = new Float32Array(PER * room)
  let last = new Int32Array(room)
  let frames = new Uint16Array(room)
  /** as PATCH, its place from the middle of the cube; and the points the cube held then */
  let patches = new Float32Array(PATCH * room)
  let then = new Float32Array(room)
  const inverse = 1 / side
  const noise2 = noise * noise
  const narrowest = lines ? Math.max(LINE * noise2, (NARROW * side) ** 2) : 0
  const moments = new Float64Array(PER)
  const corners = new Float64Array(PATCH)
  const empty = emptyPlaces()
  /** cubes around one, and where they lie from it, in cubes */
  const gathered = new Int32Array(4 * 2 * (2 * FURTHEST + 1) ** 3)
  let members = 0

  const facing = (k: number, vx: number, vy: number, vz: number) => data[PER * k + VX] * vx + data[PER * k + VX + 1] * vy + data[PER * k + VX + 2] * vz
  const newCube = (a: number, b: number, c: number, layer: number, frame: number): number => {
    if (count === room) {
      room *= 2
      slotOf = longer(slotOf, room)
      data = longer(data, PER * room)
      last = longer(last, room)
      frames = longer(frames, room)
      patches = longer(patches, PATCH * room)
      then = longer(then, room)
    }
    slotOf[count] = at.put(count, a, b, c, layer)
    last[count] = frame
    frames[count] = 1
    return count++
  }
  /** number a (0), b (1) or c (2) of a cube */
  const cubeKey = (k: number, axis: number) => at.place(slotOf[k], axis)

  /**
   * The plane through what lies in the cubes around one, seen from the same side; its place from the middle of that cube. Where that is no plane, the flattest
   * of its eight corners that the cube's own points lie on (after Kuwahara 1976): a point beside an edge belongs to one of the faces, not to what lies between them.
   */
  const around = (k: number, a: number, b: number, c: number, vx: number, vy: number, vz: number, out: Float64Array): boolean => {
    // beside what was seen most places show nothing at all: that is known by one look
    let reach = 1
    if (gather(k < 0 ? FURTHEST : 1, a, b, c, vx, vy, vz) < LEAST && k < 0) return false
    for (; reach <= FURTHEST; reach++) {
      if (reach === 2 && k >= 0) gather(FURTHEST, a, b, c, vx, vy, vz)
      sum(-reach, -reach, -reach, 2 * reach)
      if (moments[0] < LEAST) continue
      planeOf(moments, out)
      if (wide(out)) break
    }
    if (reach > FURTHEST) return false
    // the corners of a place where nothing lies prove nothing
    if (k < 0 || out[7] <= FLAT * noise2) return true
    for (let corner = 0; corner < 8; corner++) {
      sum(corner & 1 ? 0 : -reach, corner & 2 ? 0 : -reach, corner & 4 ? 0 : -reach, reach)
      if (moments[0] < LEAST) continue
      planeOf(moments, corners)
      if (corners[7] < out[7] && wide(corners) && liesOn(k, corners)) out.set(corners)
    }
    return true
  }
  /** A single line of points lies in many planes, and which of them is flattest says nothing. Tried where areas are seen: rims are lost, and places found again less often. */
  const wide = (p: Float64Array) => p[8] * narrowest < 1
  /** Whether what lies in a cube lies on a plane: not on two faces. */
  const liesOn = (k: number, p: Float64Array): boolean => {
    const o = PER * k
    const n = data[o]
    const [px, py, pz, nx, ny, nz] = p
    // mean square of n . (x - p)
    const own = data[o + 1] * nx + data[o + 2] * ny + data[o + 3] * nz
    const to = px * nx + py * ny + pz * nz
    const squares =
      data[o + 4] * nx * nx + data[o + 7] * ny * ny + data[o + 9] * nz * nz + 2 * (data[o + 5] * nx * ny + data[o + 6] * nx * nz + data[o + 8] * ny * nz)
    return (squares - 2 * to * own) / n + to * to < FLAT * noise2 * (1 + 1 / n)
  }
  /** The plane around cube k = (a, b, c), found anew where much has come since. */
  const patchOf = (k: number, a: number, b: number, c: number, out: Float64Array): boolean => {
    const o = PATCH * k
    if (data[PER * k] >= STALE * then[k]) {
      then[k] = data[PER * k]
      const v = PER * k + VX
      const found = around(k, a, b, c, data[v], data[v + 1], data[v + 2], out)
      keep(patches, o, found, out)
      // the next line lies beside it, and this cube will not tell
      if (!found && moments[0] >= LEAST) then[k] = 0
    }
    return kept(patches, o, a, b, c, out)
  }
  const keep = (to: Float32Array, o: number, found: boolean, plane: Float64Array): void => {
    if (found) for (let i = 0; i < PATCH; i++) to[o + i] = plane[i]
    else to[o + 6] = 0
  }
  /** A plane that was kept for cube (a, b, c); false where there was none. */
  const kept = (of: Float32Array, o: number, a: number, b: number, c: number, out: Float64Array): boolean => {
    if (of[o + 6] === 0) return false
    out[0] = of[o] + (a + 0.5) * side
    out[1] = of[o + 1] + (b + 0.5) * side
    out[2] = of[o + 2] + (c + 0.5) * side
    for (let i = 3; i < PATCH; i++) out[i] = of[o + i]
    return true
  }
  /** Finds the cubes around (a, b, c), up to `reach` to each side, that are seen from v; gives how many points they hold. */
  const gather = (reach: number, a: number, b: number, c: number, vx: number, vy: number, vz: number): number => {
    members = 0
    let points = 0
    at.around(a, b, c, reach, (k, i, j, l) => {
      if (facing(k, vx, vy, vz) <= 0) return
      points += data[PER * k]
      gathered[members] = k
      gathered[members + 1] = i
      gathered[members + 2] = j
      gathered[members + 3] = l
      members += 4
    })
    return points
  }
  /** Moments, about the middle one, of those that lie from (i, j, l) on, up to `more` further along each axis. */
  const sum = (i: number, j: number, l: number, more: number): void => {
    moments.fill(0)
    for (let g = 0; g < members; g += 4) {
      const [di, dj, dl] = [gathered[g + 1], gathered[g + 2], gathered[g + 3]]
      if (di < i || dj < j || dl < l || di > i + more || dj > j + more || dl > l + more) continue
      const o = PER * gathered[g]
      const dx = di * side
      const dy = dj * side
      const dz = dl * side
      const m = data[o]
      const px = data[o + 1]
      const py = data[o + 2]
      const pz = data[o + 3]
      moments[0] += m
      moments[1] += px + m * dx
      moments[2] += py + m * dy
      moments[3] += pz + m * dz
      moments[4] += data[o + 4] + 2 * dx * px + m * dx * dx
      moments[5] += data[o + 5] + dx * py + dy * px + m * dx * dy
      moments[6] += data[o + 6] + dx * pz + dz * px + m * dx * dz
      moments[7] += data[o + 7] + 2 * dy * py + m * dy * dy
      moments[8] += data[o + 8] + dy * pz + dz * py + m * dy * dz
      moments[9] += data[o + 9] + 2 * dz * pz + m * dz * dz
      moments[VX] += data[o + VX]
      moments[VX + 1] += data[o + VX + 1]
      moments[VX + 2] += data[o + VX + 2]
    }
  }

  /** How far along u, from a place on, it leaves the brick of that number along one axis, mm. */
  const leaves = (from: number, u: number, brick: number): number => (u === 0 ? Infinity : (SIDE * side * (u > 0 ? brick + 1 : brick) - from) / u)

  /** A point at d from the middle of its cube comes (1) or goes (-1). */
  const weigh = (by: number, o: number, dx: number, dy: number, dz: number, vx: number, vy: number, vz: number): void => {
    data[o] += by
    data[o + 1] += by * dx
    data[o + 2] += by * dy
    data[o + 3] += by * dz
    data[o + 4] += by * dx * dx
    data[o + 5] += by * dx * dy
    data[o + 6] += by * dx * dz
    data[o + 7] += by * dy * dy
    data[o + 8] += by * dy * dz
    data[o + 9] += by * dz * dz
    data[o + VX] += by * vx
    data[o + VX + 1] += by * vy
    data[o + VX + 2] += by * vz
  }

  /** Adds a point, seen from the direction v (unit, towards the scanner) in that frame. Frames come in order. Gives the cube. */
  const add = (x: number, y: number, z: number, vx: number, vy: number, vz: number, frame: number): number => {
    const a = Math.floor(x * inverse)
    const b = Math.floor(y * inverse)
    const c = Math.floor(z * inverse)
    let k = at.find(a, b, c, 0)
    if (k < 0) k = newCube(a, b, c, 0, frame)
    else if (facing(k, vx, vy, vz) < 0) {
      k = at.find(a, b, c, 1)
      if (k < 0) k = newCube(a, b, c, 1, frame)
    }
    const o = PER * k
    empty.changed()
    if (last[k] !== frame) {
      last[k] = frame
      if (frames[k] < 65_535) frames[k]++
    }
    if (data[o] >= MOST) return k
    weigh(1, o, x - (a + 0.5) * side, y - (b + 0.5) * side, z - (c + 0.5) * side, vx, vy, vz)
    return k
  }

  /** Takes a point out that was added so. */
  const take = (x: number, y: number, z: number, vx: number, vy: number, vz: number, frame: number): void => {
    const a = Math.floor(x * inverse)
    const b = Math.floor(y * inverse)
    const c = Math.floor(z * inverse)
    let k = at.find(a, b, c, 0)
    if (k >= 0 && facing(k, vx, vy, vz) < 0) k = at.find(a, b, c, 1)
    const o = PER * k
    if (k < 0 || data[o] === 0) return
    empty.changed()
    if (last[k] !== -1 - frame) {
      last[k] = -1 - frame
      frames[k]--
    }
    // which of the points were left out of a full cube, nobody knows any more
    if (data[o] >= MOST) return
    if (data[o] === 1) {
      data.fill(0, o, o + PER)
      return
    }
    weigh(-1, o, x - (a + 0.5) * side, y - (b + 0.5) * side, z - (c + 0.5) * side, vx, vy, vz)
  }
  /** Does that to every so-manieth point of a frame (3N mm, scanner coordinates), which `p` brings here, and the direction it was seen from. */
  const eachPoint = (what: typeof add | typeof take, xyz: Float32Array, p: ArrayLike<number>, frame: number, every: number): void => {
    for (let i = 0; i < xyz.length; i += 3 * every) {
      const x = p[0] * xyz[i] + p[1] * xyz[i + 1] + p[2] * xyz[i + 2] + p[3]
      const y = p[4] * xyz[i] + p[5] * xyz[i + 1] + p[6] * xyz[i + 2] + p[7]
      const z = p[8] * xyz[i] + p[9] * xyz[i + 1] + p[10] * xyz[i + 2] + p[11]
      const vx = p[3] - x
      const vy = p[7] - y
      const vz = p[11] - z
      const l = 1 / Math.sqrt(vx * vx + vy * vy + vz * vz)
      what(x, y, z, vx * l, vy * l, vz * l, frame)
    }
  }

  return {
    side,
    lines,
    cubes: () => count,
    /** points of a cube, at the most MOST of them */
    pointsIn: (k: number) => data[PER * k],
    /** frames in which something of a cube was seen, at the most 65 535 */
    seenIn: (k: number) => frames[k],
    /** The cube that a place lies in, of the side that is seen from the direction v; -1 where nothing was seen. */
    cubeAt(x: number, y: number, z: number, vx: number, vy: number, vz: number): number {
      const a = Math.floor(x * inverse)
      const b = Math.floor(y * inverse)
      const c = Math.floor(z * inverse)
      const k = at.find(a, b, c, 0)
      return k >= 0 && facing(k, vx, vy, vz) < 0 ? at.find(a, b, c, 1) : k
    },
    add,
    take,
    /** Adds every so-manieth point of a frame (3N mm, scanner coordinates), which `pose` brings here. */
    addFrame(xyz: Float32Array, pose: ArrayLike<number>, frame: number, every = 1): void {
      eachPoint(add, xyz, pose, frame, every)
    },
    /**
     * Takes a frame out again that was added just so, by whatever number it has now. Cubes stay where they are counted, empty ones hold nothing; the planes
     * are found anew. What is left differs from a surface it never was in by rounding only, unless a cube is full.
     */
    takeFrame(xyz: Float32Array, pose: ArrayLike<number>, frame: number, every = 1): void {
      eachPoint(take, xyz, pose, frame, every)
      then.fill(0)
    },
    /** Middle of what lies in cube k and the mean direction it was seen from: six numbers, out[at ..]; of an empty one its own middle. */
    middleOf(k: number, out: Float32Array, at: number): void {
      const o = PER * k
      const n = data[o] || 1
      for (let i = 0; i < 3; i++) out[at + i] = (cubeKey(k, i) + 0.5) * side + data[o + 1 + i] / n
      const l = Math.hypot(data[o + VX], data[o + VX + 1], data[o + VX + 2]) || 1
      for (let i = 0; i < 3; i++) out[at + 3 + i] = data[o + VX + i] / l
    },
    /**
     * The cube of surface that is known, and was seen from the side of the scanner, between a place and the scanner at (ex, ey, ez), -1 for none: what was measured
     * there contradicts it. `off` mm from the place on, up to `upto`; cubes that were seen in `least` frames.
     */
    hiddenBy(x: number, y: number, z: number, ex: number, ey: number, ez: number, off: number, upto: number, least: number): number {
      const [dx, dy, dz] = [ex - x, ey - y, ez - z]
      const l = Math.sqrt(dx * dx + dy * dy + dz * dz)
      const [ux, uy, uz] = [dx / l, dy / l, dz / l]
      const end = Math.min(upto, l)
      // a ray may pass beside what lies in a cube
      const near2 = (0.5 * side) ** 2
      let [ba, bb, bc, brick, turned] = [NaN, NaN, NaN, -1, -1]
      const step = 0.6 * side
      for (let t = off; t < end; t += step) {
        const px = x + t * ux
        const py = y + t * uy
        const pz = z + t * uz
        const a = Math.floor(px * inverse)
        const b = Math.floor(py * inverse)
        const c = Math.floor(pz * inverse)
        if (a >> 2 !== ba || b >> 2 !== bb || c >> 2 !== bc) {
          ba = a >> 2
          bb = b >> 2
          bc = c >> 2
          brick = at.brickAt(ba, bb, bc, 0)
          turned = brick < 0 ? -1 : at.brickAt(ba, bb, bc, 1)
        }
        if (brick < 0) {
          // on to the last place in this brick: most of the way nothing is
          const out = Math.min(leaves(x, ux, ba), leaves(y, uy, bb), leaves(z, uz, bc))
          t += step * Math.max(0, Math.ceil((out - t) / step) - 1)
          continue
        }
        for (let layer = 0; layer < 2; layer++) {
          const of = layer ? turned : brick
          const k = of < 0 ? -1 : at.inside(of, a, b, c)
          if (k < 0 || frames[k] < least) continue
          const o = PER * k
          // seen from within some 70 degrees of this direction
          if (facing(k, ux, uy, uz) < 0.35 * Math.sqrt(data[o + VX] ** 2 + data[o + VX + 1] ** 2 + data[o + VX + 2] ** 2)) continue
          const qx = (a + 0.5) * side + data[o + 1] / data[o] - x
          const qy = (b + 0.5) * side + data[o + 2] / data[o] - y
          const qz = (c + 0.5) * side + data[o + 3] / data[o] - z
          const along = qx * ux + qy * uy + qz * uz
          if (qx * qx + qy * qy + qz * qz - along * along < near2) return k
        }
      }
      return -1
    },
    /** The plane around a place, as seen from direction v: PATCH numbers. False where too little was seen. */
    patchAt(x: number, y: number, z: number, vx: number, vy: number, vz: number, out: Float64Array): boolean {
      const a = Math.floor(x * inverse)
      const b = Math.floor(y * inverse)
      const c = Math.floor(z * inverse)
      let k = at.find(a, b, c, 0)
      if (k >= 0 && facing(k, vx, vy, vz) < 0) k = at.find(a, b, c, 1)
      if (k >= 0) return patchOf(k, a, b, c, out)
      // beside what was seen: the plane of the nearest cube that shares a face with this one
      const fx = x * inverse - a - 0.5
      const fy = y * inverse - b - 0.5
      const fz = z * inverse - c - 0.5
      for (let tried = 0, turn = 0; turn < 3; turn++) {
        const ax = tried & 1 ? -1 : Math.abs(fx)
        const ay = tried & 2 ? -1 : Math.abs(fy)
        const az = tried & 4 ? -1 : Math.abs(fz)
        const axis = ax >= ay && ax >= az ? 0 : ay >= az ? 1 : 2
        tried |= 1 << axis
        const i = a + (axis === 0 ? Math.sign(fx) : 0)
        const j = b + (axis === 1 ? Math.sign(fy) : 0)
        const l = c + (axis === 2 ? Math.sign(fz) : 0)
        let near = at.find(i, j, l, 0)
        if (near >= 0 && facing(near, vx, vy, vz) < 0) near = at.find(i, j, l, 1)
        if (near >= 0 && patchOf(near, i, j, l, out)) return true
      }
      let m = empty.at(a, b, c, vx, vy, vz)
      if (m < 0) {
        m = -1 - m
        keep(empty.planes, PATCH * m, around(-1, a, b, c, vx, vy, vz, out), out)
      }
      return kept(empty.planes, PATCH * m, a, b, c, out)
    },
  }
}
export type GrowingSurface = ReturnType<typeof growingSurface>
