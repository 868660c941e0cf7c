import { beforeAll, describe, expect, test } from '@jest/globals'
import type { CadSurface } from '@oak-gauge/core/base/cad.ts'
import { identity } from '@oak-gauge/core/base/mat4.ts'
import { quietContext } from '@oak-gauge/core/base/run.ts'
import { readAny } from '@oak-gauge/core/formats/index.ts'
import { bytesSource } from '@oak-gauge/core/formats/source.ts'
import { deviationTo } from '@oak-gauge/core/inspect/deviation.ts'
import { meshFacts } from '@oak-gauge/core/measure/facts.ts'
import { mergePasses } from '@oak-gauge/core/merge/merge.ts'
import { runOperation } from '@oak-gauge/core/operations/registry.ts'
import { makePoints, type Points } from '@oak-gauge/core/shape/points.ts'
import { sampleMesh } from '@oak-gauge/core/shape/sample.ts'
import { transformMesh, type Mesh } from '@oak-gauge/core/shape/mesh.ts'
import init, { type OpenCascadeInstance, type TopoDS_Shape } from 'replicad-opencascadejs'
import { fixture, fixtureJson, fixtureSource, oakError, value } from '../../core/test/help.ts'
import type { OakError } from '@oak-gauge/core/base/errors.ts'
import { cadHere } from '../src/kernel.ts'

const ctx = { ...quietContext, cad: cadHere }
const read = async (name: string, bytes: Uint8Array) => {
  const r = await readAny(bytesSource(name, bytes), ctx)
  const mesh = r.data as Mesh
  return { ...r, mesh, surfaces: mesh.surfaces as CadSurface[], exact: r.exact as NonNullable<typeof r.exact> }
}
const step = (name: string) => read(name, fixture(`cad/${name}`))
const only = <K extends CadSurface['kind']>(list: readonly CadSurface[], kind: K) => list.filter((s): s is Extract<CadSurface, { kind: K }> => s.kind === kind)

describe('against the geometry kernel of gmsh 4.8.4, which nobody here made', () => {
  const ref = fixtureJson('cad/reference_external.json').files
  test.each(['cube-mm.step', 'cube-in.step', 'cube-m.step', 'rounded-cube.step', 'screw.step'])(
    '%s: faces by kind, radii to 1e-9, exact volume and area to 1e-6',
    async (name) => {
      const { mesh, surfaces, exact, warnings } = await step(name)
      const r = ref[name]
      expect(warnings).toEqual([])
      expect([surfaces.length, new Set(mesh.faces).size]).toEqual([r.faces, r.faces])
      const kinds: Record<string, string> = { plane: 'Plane', cylinder: 'Cylinder', cone: 'Cone', sphere: 'Sphere', torus: 'Torus', free: 'BSplineSurface' }
      const counts: Record<string, number> = {}
      for (const s of surfaces) counts[kinds[s.kind]] = (counts[kinds[s.kind]] ?? 0) + 1
      expect(counts).toEqual(r.face_types)
      const radii = Object.entries(r.cylindrical_surface_radius_counts_in_file_units as Record<string, number>).flatMap(([v, n]) =>
        Array<number>(n).fill(Number(v)),
      )
      const found = only(surfaces, 'cylinder').map((s) => s.radius)
      radii.sort((a, b) => a - b)
      found.sort((a, b) => a - b)
      found.forEach((v, i) => expect(Math.abs(v / radii[i] - 1)).toBeLessThan(1e-9))
      const angles = only(surfaces, 'cone').map((s) => s.halfAngle)
      angles.forEach((v, i) => expect(Math.abs(v - Number(r.conical_surfaces_radius_semiangle[i][1]))).toBeLessThan(1e-11))
      expect(Math.abs(exact.volume / r.volume_mm3 - 1)).toBeLessThan(1e-6)
      expect(Math.abs(exact.area / r.area_mm2 - 1)).toBeLessThan(1e-6)
      expect(Math.abs(surfaces.reduce((s, f) => s + f.area, 0) / r.area_mm2 - 1)).toBeLessThan(1e-6)
      const facts = meshFacts(mesh)
      expect(facts.topology.closed).toBe(true)
      expect(Math.abs(facts.volume / r.volume_mm3 - 1)).toBeLessThan(1e-3)
      // the box there is one of the tori's poles, beyond the faces
      if (r.toroidal_surfaces === 0) for (let k = 0; k < 6; k++) expect(Math.abs(facts.box[k] - r.bbox[k])).toBeLessThan(0.01)
    },
  )
  test('three cubes of the same size, written in mm, inches and metres (npm occt-import-js, LGPL-2.1 test data)', async () => {
    for (const unit of ['mm', 'in', 'm']) {
      const r = await runOperation('import', { file: [{ kind: 'file', source: fixtureSource(`cad/cube-${unit}.step`) }] }, {}, ctx)
      expect(value(r.evidence, 'size-x')).toBeCloseTo(1000, 3)
      expect(value(r.evidence, 'volume')).toBeCloseTo(1e9, 0)
      expect(value(r.evidence, 'unit-of-the-file')).toBe(unit)
      // the kernel has converted already: the unit given as well does not do it again
      const again = await runOperation('import', { file: [{ kind: 'file', source: fixtureSource(`cad/cube-${unit}.step`) }] }, { unit }, ctx)
      expect(value(again.evidence, 'size-x')).toBeCloseTo(1000, 3)
    }
  })
})

describe('against the drawing', () => {
  test('a plate: every bore with its radius and place, hollow; every plane looks out of the body', async () => {
    const { mesh, surfaces, exact } = await step('plate_holes_dev.step')
    const { analytic, features, occ_from_step } = fixtureJson('cad/plate_holes_dev.json')
    expect(surfaces.length).toBe(occ_from_step.faces)
    expect(Math.abs(exact.volume / analytic.volume - 1)).toBeLessThan(1e-12)
    expect(Math.abs(exact.area / analytic.area - 1)).toBeLessThan(1e-12)
    const bores = only(surfaces, 'cylinder')
    expect(bores.every((b) => b.hollow && Math.abs(Math.abs(b.axis[2]) - 1) < 1e-12)).toBe(true)
    for (const [x, y] of features.holes_d10 as [number, number][]) {
      const bore = bores.find((b) => Math.hypot(b.point[0] - x, b.point[1] - y) < 1e-9)
      expect(Math.abs((bore?.radius ?? 0) / 5 - 1)).toBeLessThan(1e-9)
    }
    expect(
      bores
        .filter((b) => Math.hypot(b.point[0] - 50, b.point[1] - 30) < 1e-9)
        .map((b) => b.radius)
        .sort((a, b) => a - b),
    ).toEqual([9, 15])
    // the triangles of each plane turn the same way as it
    for (let t = 0; t < mesh.triangles.length / 3; t++) {
      const s = surfaces[(mesh.faces as Uint32Array)[t]]
      if (s.kind === 'plane') expect(normalOf(mesh, t).reduce((d, v, k) => d + v * s.normal[k], 0)).toBeGreaterThan(0.999)
    }
  })
  test('a stepped shaft: solid diameters, its cone', async () => {
    const { surfaces } = await step('stepped_shaft_dev.step')
    const { features } = fixtureJson('cad/stepped_shaft_dev.json')
    const shafts = only(surfaces, 'cylinder')
    expect(shafts.every((s) => !s.hollow && Math.hypot(s.point[0], s.point[1]) < 1e-9)).toBe(true)
    expect(new Set(shafts.map((s) => 2 * s.radius))).toEqual(new Set(features.diameters))
    expect(only(surfaces, 'cone').every((s) => !s.hollow && s.halfAngle > 0)).toBe(true)
  })
})

describe('what the kernel makes itself, written and read back', () => {
  let oc: OpenCascadeInstance
  beforeAll(async () => {
    oc = await init({ print: () => undefined })
  })
  const written = (shape: TopoDS_Shape): Uint8Array => {
    const writer = new oc.STEPControl_Writer()
    writer.Transfer(shape, oc.STEPControl_StepModelType.STEPControl_AsIs, true, new oc.Message_ProgressRange())
    writer.Write('/out.step')
    return oc.FS.readFile('/out.step')
  }
  /** a profile of radii and heights turned about z */
  const turned = (profile: [number, number][]): TopoDS_Shape => {
    const wire = new oc.BRepBuilderAPI_MakeWire()
    profile.forEach(([r, z], i) => {
      const [r2, z2] = profile[(i + 1) % profile.length]
      wire.Add(new oc.BRepBuilderAPI_MakeEdge(new oc.gp_Pnt(r, 0, z), new oc.gp_Pnt(r2, 0, z2)).Edge())
    })
    const face = new oc.BRepBuilderAPI_MakeFace(wire.Wire(), true).Face()
    return new oc.BRepPrimAPI_MakeRevol(face, new oc.gp_Ax1(new oc.gp_Pnt(0, 0, 0), new oc.gp_Dir(0, 0, 1)), true).Shape()
  }
  const axes = (p: [number, number, number], d: [number, number, number]) => new oc.gp_Ax2(new oc.gp_Pnt(...p), new oc.gp_Dir(...d))
  test('sphere and torus, solid, standing askew far from the middle', async () => {
    const n = 1 / Math.sqrt(3)
    const ring = await read('ring.step', written(new oc.BRepPrimAPI_MakeTorus(axes([300, -20, 7], [1, 1, 1]), 12, 2.5).Shape()))
    const [torus] = only(ring.surfaces, 'torus')
    expect([torus.major, torus.minor, torus.hollow]).toEqual([expect.closeTo(12, 10), expect.closeTo(2.5, 10), false])
    torus.axis.forEach((v) => expect(Math.abs(Math.abs(v) - n)).toBeLessThan(1e-12))
    ;[300, -20, 7].forEach((v, k) => expect(torus.point[k]).toBeCloseTo(v, 9))
    expect(ring.exact.volume / (2 * Math.PI ** 2 * 12 * 2.5 ** 2)).toBeCloseTo(1, 6)
    const ball = await read('ball.step', written(new oc.BRepPrimAPI_MakeSphere(new oc.gp_Pnt(1, 2, 3), 8).Shape()))
    const [sphere] = only(ball.surfaces, 'sphere')
    expect([sphere.radius, ...sphere.point, sphere.hollow]).toEqual([
      expect.closeTo(8, 10),
      expect.closeTo(1, 10),
      expect.closeTo(2, 10),
      expect.closeTo(3, 10),
      false,
    ])
    expect(ball.warnings).toEqual([])
  })
  test('an assembly: one bush placed twice, turned and moved, each with its own axis; a cone opens along its axis', async () => {
    const cone = turned([
      [0, 0],
      [10, 0],
      [4, 20],
      [0, 20],
    ])
    const turn = new oc.gp_Trsf()
    turn.SetRotation(new oc.gp_Ax1(new oc.gp_Pnt(0, 0, 0), new oc.gp_Dir(1, 0, 0)), Math.PI / 2)
    const move = new oc.gp_Trsf()
    move.SetTranslation(new oc.gp_Vec(100, 0, 0))
    move.Multiply(turn)
    const both = new oc.TopoDS_Compound()
    const builder = new oc.TopoDS_Builder()
    builder.MakeCompound(both)
    builder.Add(both, cone)
    builder.Add(both, cone.Moved(new oc.TopLoc_Location(move), false))
    const { surfaces, exact, warnings } = await read('two.step', written(both))
    const cones = only(surfaces, 'cone')
    expect(cones.length).toBe(2)
    const volume = ((Math.PI * 20) / 3) * (100 + 40 + 16)
    expect(exact.volume / (2 * volume)).toBeCloseTo(1, 9)
    for (const c of cones) expect(c.halfAngle).toBeCloseTo(Math.atan(6 / 20), 10)
    // narrow end up (z), and after the turn about x along -y: both open the other way
    const [first, second] = cones.sort((a, b) => a.point[0] - b.point[0])
    ;[0, 0, -1].forEach((v, k) => expect(first.axis[k]).toBeCloseTo(v, 10))
    ;[0, 1, 0].forEach((v, k) => expect(second.axis[k]).toBeCloseTo(v, 10))
    expect(second.point[0]).toBeCloseTo(100, 9)
    expect(warnings).toEqual(['The file holds 2 bodies; all of them were taken.'])
  })
  test('a part 5 km from the origin keeps its micrometres', async () => {
    const far = written(new oc.BRepPrimAPI_MakeCylinder(axes([5e6, -5e6, 0.0625], [0, 0, 1]), 3, 10).Shape())
    const r = await runOperation('import', { file: [{ kind: 'file', source: bytesSource('far.step', far) }] }, {}, ctx)
    const [item] = r.outputs['item']
    const mesh = item.data as Mesh
    const [c] = only(mesh.surfaces as CadSurface[], 'cylinder')
    ;[5e6, -5e6].forEach((v, k) => expect(Math.abs(c.point[k] + item.pose[4 * k + 3] - v)).toBeLessThan(1e-6))
    for (let i = 0; i < mesh.vertices.length; i += 3) {
      const off = Math.hypot(mesh.vertices[i] - c.point[0], mesh.vertices[i + 1] - c.point[1])
      expect(off < 1e-5 || Math.abs(off - 3) < 1e-5).toBe(true)
    }
  })
  test('the chord follows the size of the part, and no file becomes more triangles than help', async () => {
    const ring = (k: number) => written(new oc.BRepPrimAPI_MakeTorus(axes([0, 0, 0], [0, 0, 1]), 12 * k, 2.5 * k).Shape())
    const [small, large] = [await read('s.step', ring(0.1)), await read('l.step', ring(100))]
    expect(small.exact.chord).toBeLessThan(3e-4)
    expect(large.mesh.triangles.length / 3).toBeLessThan(100_000)
    // inscribed: the volume lacks no more than the chord all over
    for (const r of [small, large]) expect(Math.abs(meshFacts(r.mesh).volume - r.exact.volume)).toBeLessThan(r.exact.chord * r.exact.area)
  })
})

describe('damage is told', () => {
  const text = (name: string) => new TextDecoder().decode(fixture(`cad/${name}`))
  const changed = (s: string) => read('part.step', new TextEncoder().encode(s))
  test('without a kernel, cut off, or no STEP at all: refused in words', async () => {
    expect((await oakError(readAny(fixtureSource('cad/cube-mm.step')))).code).toBe('no-cad')
    expect((await oakError(read('cut.step', fixture('cad/cube-mm.step').slice(0, 4000)))).code).toBe('truncated')
    const hollow = await oakError(changed('ISO-10303-21;\nHEADER;\nENDSEC;\nDATA;\nENDSEC;\nEND-ISO-10303-21;\n'))
    expect([hollow.code, hollow.where, hollow.remedy !== '']).toEqual(['bad-step', 'part.step', true])
  })
  test('a corner at the end of the world is no part of that size', async () => {
    const plate = text('plate_holes_dev.step')
    const far = plate.replaceAll("CARTESIAN_POINT('',(100.,", "CARTESIAN_POINT('',(1.E40,")
    expect(far).not.toBe(plate)
    const e = await changed(far).then(
      (r) => r.warnings,
      (x: OakError) => x.code,
    )
    // refused, or told: never in silence, and never for ever
    expect(e === 'bad-step' || e.length > 0).toBe(true)
  })
  test('a face, a line, an entity that is gone; a text without an end', async () => {
    const plate = text('plate_holes_dev.step')
    const cylinder = /\n#(\d+) = CYLINDRICAL_SURFACE[^;]*;/.exec(plate) as RegExpExecArray
    const lost = await changed(plate.replace(cylinder[0], ''))
    expect(lost.warnings.join(' ')).toContain(`(the first is #${cylinder[1]})`)
    expect(lost.warnings.join(' ')).toMatch(/could not be read|is open/)
    const twice = await changed(plate.replace(cylinder[0], cylinder[0] + cylinder[0]))
    expect(twice.warnings.join(' ')).toContain(`#${cylinder[1]} stands in it twice`)
  })
  test('colours that are not read are told to be lost; one all over, or the same twice, tells nothing', async () => {
    const cube = text('cube-mm.step')
    const own = /COLOUR_RGB\([^)]*\)/.exec(cube)?.[0] ?? ''
    const more = (...entities: string[]) => cube.replace(/ENDSEC;\s*END-ISO/, `${entities.map((e, k) => `#${90_000 + k}=${e};\n`).join('')}$&`)
    const said = async (s: string) => (await changed(s)).warnings
    expect(own).not.toBe('')
    const filled = (...colours: string[]) => more(...colours.flatMap((c, k) => [c, `FILL_AREA_STYLE_COLOUR('',#${90_000 + 2 * k})`]))
    expect(await said(filled(own, "COLOUR_RGB ( 'as before' , 0.8, 0.8 , 0.80000 )"))).toEqual([])
    // of edges, and of nothing
    expect(await said(more("COLOUR_RGB('red',1.,0.,0.)", "DESCRIPTION('FILL_AREA_STYLE_COLOUR of a door')"))).toEqual([])
    const two = ["COLOUR_RGB('red',1.,0.,0.)", "DRAUGHTING_PRE_DEFINED_COLOUR('blue')", "DRAUGHTING_PRE_DEFINED_COLOUR('blue')"]
    expect(await said(filled(...two))).toEqual(['The 3 colours of the file are not read: they are lost.'])
  })
  test('a bore whose radius does not fit its edges', async () => {
    const plate = text('plate_holes_dev.step')
    const r = await changed(plate.replace(/(CYLINDRICAL_SURFACE\('',#\d+,)5\.\)/, '$15.4)'))
    expect(r.warnings.join(' ')).toMatch(/contradicts itself|lie up to/)
  })
})

function normalOf(m: Mesh, t: number): number[] {
  const at = (k: number) => Array.from(m.vertices.subarray(3 * m.triangles[3 * t + k], 3 * m.triangles[3 * t + k] + 3))
  const [a, b, c] = [at(0), at(1), at(2)]
  const [u, v] = [b.map((x, k) => x - a[k]), c.map((x, k) => x - a[k])]
  const n = [u[1] * v[2] - u[2] * v[1], u[2] * v[0] - u[0] * v[2], u[0] * v[1] - u[1] * v[0]]
  const l = Math.hypot(...n)
  return n.map((x) => x / l)
}

test('a moved mesh takes its surfaces along', async () => {
  const { mesh } = await step('rounded-cube.step')
  const moved = transformMesh(mesh, [0, -1, 0, 5, 1, 0, 0, 6, 0, 0, 1, 7, 0, 0, 0, 1])
  const [before, after] = [only(mesh.surfaces as CadSurface[], 'cylinder')[0], only(moved.surfaces as CadSurface[], 'cylinder')[0]]
  expect(after.point.map((v, k) => v - [5 - before.point[1], 6 + before.point[0], 7 + before.point[2]][k])).toEqual([0, 0, 0])
  expect(after.axis.map((v, k) => v - [-before.axis[1], before.axis[0], before.axis[2]][k])).toEqual([0, 0, 0])
})

describe('from points back to the drawing', () => {
  test('the shaft, sampled and merged, has the volume and area of its closed formula, and lies on its CAD to 5 micrometres', async () => {
    const cad = (await step('stepped_shaft_dev.step')).mesh
    const ref = fixtureJson('cad/stepped_shaft_dev.json').analytic
    const s = sampleMesh(cad, 160_000)
    const points: Points = makePoints({ xyz: s.xyz, normals: s.normals })
    const { mesh } = await mergePasses([{ name: 'shaft', data: points, pose: identity() }], { cell: 0.4 }, quietContext)
    const facts = meshFacts(mesh)
    expect([facts.topology.openEdges, facts.topology.nonManifoldEdges, facts.topology.components]).toEqual([0, 0, 1])
    expect(Math.abs(facts.volume / ref.volume - 1)).toBeLessThan(1e-3)
    expect(Math.abs(facts.area / ref.area - 1)).toBeLessThan(2e-3)
    const d = await deviationTo(cad, mesh.vertices, 5, quietContext)
    const rms = Math.sqrt(d.values.reduce((sum, v) => sum + v * v, 0) / d.values.length)
    expect(rms).toBeLessThan(0.005)
  })
  test('the plate with holes keeps its genus: five through openings (four bores, one bore with its counterbore)', async () => {
    const cad = (await step('plate_holes_dev.step')).mesh
    const ref = fixtureJson('cad/plate_holes_dev.json')
    const s = sampleMesh(cad, 150_000)
    const { mesh } = await mergePasses([{ name: 'plate', data: makePoints({ xyz: s.xyz, normals: s.normals }), pose: identity() }], { cell: 0.6 }, quietContext)
    const euler = mesh.vertices.length / 3 - mesh.triangles.length / 2 + mesh.triangles.length / 3
    expect(meshFacts(mesh).topology.closed).toBe(true)
    expect(euler).toBe(ref.mesh_stl.euler_characteristic)
    expect(Math.abs(meshFacts(mesh).volume / ref.analytic.volume - 1)).toBeLessThan(1e-3)
  })
  test('a CAD plate against itself, read from STEP and from STL: nothing but the chords', async () => {
    const cad = (await step('plate_holes_dev.step')).mesh
    const stl = (await readAny(fixtureSource('cad/plate_holes_dev.stl'))).data as Mesh
    const d = await deviationTo(cad, sampleMesh(stl, 20_000).xyz, 5, quietContext)
    // the STL has 24 chords round the counterbore of 30 mm; the STEP is read to 0.005 mm
    const sagitta = 15 * (1 - Math.cos(Math.PI / 24))
    expect(Math.abs(Math.max(...d.values.map(Math.abs)) - sagitta)).toBeLessThan(0.005)
    expect(d.beyond.reduce((s, v) => s + v, 0)).toBe(0)
  })
})
