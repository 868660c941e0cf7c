import type { Solid } from 'replicad'
import { cad } from '../cad.ts'

/** Sizes of the bearing bracket, mm. The recorded part differs from the nominal in `bore` and in what defects.ts bends and wears. */
export interface BracketSizes {
  bore: number
  bolt: number
}

export const NOMINAL_BRACKET: BracketSizes = { bore: 26, bolt: 11 }

/** Centres of the four bolt holes, mm. */
export const BOLTS: readonly (readonly [number, number])[] = [
  [-62, -38],
  [62, -38],
  [-62, 38],
  [62, 38],
]
export const BORE_HEIGHT = 37

/**
 * Cast-iron bearing bracket of a paddle winch, 160 x 110 x 60 mm: foot plate with four bolt holes, a bearing boss
 * across it, a rib on one side, an oil pad and a lug on the other, so that its pose is unique.
 */
export async function bracket(sizes: BracketSizes = NOMINAL_BRACKET): Promise<Solid> {
  const r = await cad()
  const solid = (s: unknown) => s as Solid
  // castings have no sharp outer edges; these rounds are also what ties the underside's height to the top
  const plate = solid(r.drawRoundedRectangle(160, 110, 12).sketchOnPlane('XY').extrude(14))
  let part = solid(plate.fillet(4, (e) => e.either([(f) => f.inPlane('XY', 0), (f) => f.inPlane('XY', 14)])))
  const cylinder = (radius: number, height: number, at: [number, number, number], axis: [number, number, number]) =>
    solid(r.makeCylinder(radius, height, at, axis))
  part = solid(part.fuse(solid(r.makeBox([-23, -26, 4], [23, 26, BORE_HEIGHT]))))
  const boss = cylinder(23, 70, [0, -35, BORE_HEIGHT], [0, 1, 0])
  part = solid(part.fuse(solid(boss.fillet(2))))
  const rib = solid(r.draw([20, 13]).lineTo([64, 13]).lineTo([64, 17]).lineTo([20, 44]).close().sketchOnPlane('XZ', 5).extrude(10))
  part = solid(part.fuse(rib))
  part = solid(part.fuse(cylinder(11, 8, [-48, 4, 13], [0, 0, 1])))
  part = solid(part.fuse(solid(r.makeBox([-80, -12, 4], [-66, 14, 24]))))
  for (const [x, y] of BOLTS) part = solid(part.cut(cylinder(sizes.bolt / 2, 40, [x, y, -5], [0, 0, 1])))
  for (const [x, y] of BOLTS.slice(0, 2)) part = solid(part.cut(cylinder(10, 10, [x, y, 11], [0, 0, 1])))
  part = solid(part.cut(cylinder(sizes.bore / 2, 100, [0, -50, BORE_HEIGHT], [0, 1, 0])))
  // hollow underside with a small pocket, as castings have
  part = solid(part.cut(solid(r.makeBox([-30, -40, -1], [34, 44, 5]))))
  return part
}
