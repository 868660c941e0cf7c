/** Four numbers at once: what the kernels share. */
export const LANES = i32x4(0, 1, 2, 3)

export function total(v: v128): f32 {
  return f32x4.extract_lane(v, 0) + f32x4.extract_lane(v, 1) + f32x4.extract_lane(v, 2) + f32x4.extract_lane(v, 3)
}

export function lane(v: v128, k: i32): f32 {
  return k == 0 ? f32x4.extract_lane(v, 0) : k == 1 ? f32x4.extract_lane(v, 1) : k == 2 ? f32x4.extract_lane(v, 2) : f32x4.extract_lane(v, 3)
}

export function least(v: v128): f32 {
  return min(min(f32x4.extract_lane(v, 0), f32x4.extract_lane(v, 1)), min(f32x4.extract_lane(v, 2), f32x4.extract_lane(v, 3)))
}

/** Of four whole numbers the one whose place holds the least of v. */
export function ofLeast(v: v128, which: v128): i32 {
  const k = ctz(i32x4.bitmask(f32x4.eq(v, f32x4.splat(least(v)))))
  return k == 0 ? i32x4.extract_lane(which, 0) : k == 1 ? i32x4.extract_lane(which, 1) : k == 2 ? i32x4.extract_lane(which, 2) : i32x4.extract_lane(which, 3)
}

/** Squared length of four vectors. */
export function squared(x: v128, y: v128, z: v128): v128 {
  return f32x4.add(f32x4.add(f32x4.mul(x, x), f32x4.mul(y, y)), f32x4.mul(z, z))
}

/** Inner product of four pairs of vectors. */
export function inner(ax: v128, ay: v128, az: v128, bx: v128, by: v128, bz: v128): v128 {
  return f32x4.add(f32x4.add(f32x4.mul(ax, bx), f32x4.mul(ay, by)), f32x4.mul(az, bz))
}
