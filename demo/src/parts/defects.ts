import { f32 } from '@oak-gauge/core/base/arrays.ts'
import { makeMesh, type Mesh } from '@oak-gauge/core/shape/mesh.ts'

/**
 * What is wrong with the recorded bearing bracket, hidden from the program and known to the tests. Millimetres, in the nominal's coordinates:
 * x along the foot plate, y along the bore, z up from the underside.
 */
export const DEFECTS = {
  /** the bore was turned too large: nominal 26.00 */
  oversizeBore: { diameter: 26.3 },
  /** the right end of the foot plate is bent up, as a parabola from x = 30 */
  bentFoot: { from: 30, end: 80, rise: 0.8 },
  /** the front face of the boss (y = -35) is worn in its lower half, deepest below the bore */
  wornFace: { y: -35, z: 19, depth: 0.35, width: 7 },
} as const

export const bendAt = (x: number) =>
  x <= DEFECTS.bentFoot.from ? 0 : DEFECTS.bentFoot.rise * ((x - DEFECTS.bentFoot.from) / (DEFECTS.bentFoot.end - DEFECTS.bentFoot.from)) ** 2
export const wearAt = (z: number) => DEFECTS.wornFace.depth * Math.exp(-((z - DEFECTS.wornFace.z) ** 2) / (2 * DEFECTS.wornFace.width ** 2))

/** Bends the foot and wears the face of a finely divided bracket. The bore's size is the solid's own matter. */
export function spoilBracket(mesh: Mesh): Mesh {
  const v = mesh.vertices
  const out = f32(v.length)
  for (let i = 0; i < v.length; i += 3) {
    const [x, y, z] = [v[i], v[i + 1], v[i + 2]]
    out[i] = x
    // the worn layer fades over 2 mm behind the face, so that its rim moves along
    const layer = Math.max(0, Math.min(1, (-33 - y) / 2))
    out[i + 1] = y + (Math.hypot(x, z - 37) < 24 && y < -33 ? layer * wearAt(z) : 0)
    out[i + 2] = z + bendAt(x)
  }
  return makeMesh({ ...mesh, vertices: out })
}
