import type { Sketch, Solid } from 'replicad'
import { cad } from '../cad.ts'

const solid = (s: unknown) => s as Solid

/**
 * Cast post that carries a paddle winch on the quay, 150 x 120 x 366 mm: a foot with four bolt holes, a tapering column with a web at its back, two bearing
 * eyes one above the other, a slot for the rack and a lug low on one side. Tall: its markers want towers, and one goes up and down it.
 */
export async function winchPost(): Promise<Solid> {
  const r = await cad()
  const cylinder = (radius: number, height: number, at: [number, number, number], axis: [number, number, number]) =>
    solid(r.makeCylinder(radius, height, at, axis))
  const foot = solid(r.drawRoundedRectangle(150, 120, 14).sketchOnPlane('XY').extrude(16))
  let part = solid(foot.fillet(4, (e) => e.inPlane('XY', 16)))
  const level = (x: number, y: number, z: number) => r.drawRoundedRectangle(x, y, 8).sketchOnPlane('XY', z) as Sketch
  part = solid(part.fuse(solid(level(64, 56, 12).loftWith(level(44, 44, 366)))))
  // web at the back, from the foot to the upper eye
  part = solid(part.fuse(solid(r.draw([-58, 12]).lineTo([-18, 12]).lineTo([-18, 330]).close().sketchOnPlane('XZ', 6).extrude(12))))
  for (const z of [230, 340]) {
    part = solid(part.fuse(cylinder(24, 74, [0, -37, z], [0, 1, 0])))
    part = solid(part.cut(cylinder(12, 90, [0, -45, z], [0, 1, 0])))
  }
  part = solid(part.fuse(solid(r.makeBox([10, -12, 70], [48, 12, 96]))))
  part = solid(part.cut(solid(r.makeBox([12, -7, 120], [40, 7, 190]))))
  for (const [x, y] of [
    [-58, -44],
    [58, -44],
    [-58, 44],
    [58, 44],
  ])
    part = solid(part.cut(cylinder(7, 40, [x, y, -10], [0, 0, 1])))
  return part
}

/**
 * Hatch of a paddle chamber, 520 x 340 mm of 2 mm sheet, its long edges bent down by 14 mm: two pressed beads of unlike length, a hand hole, six screw holes and
 * one corner cut off, so that its pose is unique. Large and thin: seen from one side, it is measured against its edges only.
 */
export async function hatch(): Promise<Solid> {
  const r = await cad()
  const box = (a: [number, number, number], b: [number, number, number]) => solid(r.makeBox(a, b))
  const outline = r.draw([-260, -170]).lineTo([260, -170]).lineTo([260, 130]).lineTo([215, 170]).lineTo([-260, 170]).close()
  let part = solid(outline.sketchOnPlane('XY', 12).extrude(2))
  part = solid(part.fuse(box([-260, -170, 0], [260, -168, 13])))
  part = solid(part.fuse(box([-260, 168, 0], [215, 170, 13])))
  for (const [y, from, to] of [
    [-70, -190, 190],
    [70, -190, 90],
  ]) {
    const along = (radius: number, x0: number, x1: number) => solid(r.makeCylinder(radius, x1 - x0, [x0, y, 12], [1, 0, 0]))
    part = solid(part.fuse(solid(along(8, from, to).cut(box([-300, y - 20, -20], [300, y + 20, 12])))))
    part = solid(part.cut(along(6, from + 2, to - 2)))
  }
  part = solid(part.cut(solid(r.drawRoundedRectangle(110, 40, 18).translate(150, 20).sketchOnPlane('XY', 0).extrude(40))))
  for (const [x, y] of [
    [-240, -145],
    [0, -145],
    [240, -145],
    [-240, 145],
    [0, 145],
    [195, 145],
  ])
    part = solid(part.cut(solid(r.makeCylinder(3.5, 40, [x, y, -10], [0, 0, 1]))))
  return part
}
