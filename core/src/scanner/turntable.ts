import { fromRotationVector, multiply, translation, type Mat4 } from '../base/mat4.ts'

/** rad: how steeply a head looks down on what stands on a turntable before it: under a flatter look flat markers vanish (own choice) */
const HEAD_DOWN = (52 * Math.PI) / 180

/**
 * From what stands on a turntable (its axis is z, the table at z = 0, mm) to the body of the scanner before it, which looks at the middle of the table from
 * `ideal` mm, the table turned to so many degrees. With growing angle the scanner goes round counter-clockwise, seen from above (docs/scanner-link.md).
 */
export function tableToBody(ideal: number, degrees: number): Mat4 {
  const table = multiply(translation(0, 0, ideal), fromRotationVector(HEAD_DOWN, 0, 0))
  const zUp = fromRotationVector(Math.PI / 2, 0, 0)
  return multiply(table, multiply(fromRotationVector(0, (degrees * Math.PI) / 180, 0), zUp))
}
