import { describe, expect, test } from '@jest/globals'
import { identity } from '../src/base/mat4.ts'
import { quietContext } from '../src/base/run.ts'
import { readAny } from '../src/formats/index.ts'
import { deviationTo } from '../src/inspect/deviation.ts'
import { meshFacts } from '../src/measure/facts.ts'
import { mergePasses } from '../src/merge/merge.ts'
import { topology } from '../src/shape/topology.ts'
import { keepTriangles, triangleNormal, type Mesh } from '../src/shape/mesh.ts'
import { makePoints, type Points } from '../src/shape/points.ts'
import { sampleMesh } from '../src/shape/sample.ts'
import { fixtureJson, fixtureSource, oakError } from './help.ts'

/** Files and figures that nobody here made; sources and licences in fixtures/NOTICE. */

describe('strange files of a general-purpose reader’s own tests (Debian assimp-testmodels, BSD-3-Clause)', () => {
  const read = (name: string) => readAny(fixtureSource(`robustness/${name}`))
  const ref = fixtureJson('robustness/reference.json').files
  test.each([
    'sphereWithHole.stl',
    'plate_inconsistent_orientation.stl',
    'triangle_with_empty_solid.stl',
    'triangle_with_two_solids.stl',
    'malformed2.obj',
    'float-color.ply',
    'cube_with_vertexcolors.obj',
  ])('%s: triangles, vertices, borders and pieces as counted there', async (name) => {
    const m = (await read(name)).data as Mesh
    const t = topology(m)
    expect({
      triangles: m.triangles.length / 3,
      unique_vertices: m.vertices.length / 3,
      boundary_edges: t.openEdges,
      nonmanifold_edges: t.nonManifoldEdges,
      components: t.components,
    }).toEqual({
      triangles: ref[name].triangles,
      unique_vertices: ref[name].unique_vertices,
      boundary_edges: ref[name].boundary_edges,
      nonmanifold_edges: ref[name].nonmanifold_edges,
      components: ref[name].components,
    })
  })
  test('a closed plate with some faces wound the wrong way is told, since its volume is not to be trusted', async () => {
    const t = topology((await read('plate_inconsistent_orientation.stl')).data as Mesh)
    expect(t.closed).toBe(true)
    expect(t.flippedEdges).toBeGreaterThan(0)
    // directed edges used twice: each such edge has two
    expect(ref['plate_inconsistent_orientation.stl'].directed_edges_used_twice).toBe(t.flippedEdges)
  })
  test('a face over several lines, a concave polygon, points only, colours as fractions', async () => {
    const long = meshFacts((await read('box_longline.obj')).data as Mesh)
    expect([long.triangles > 0, ...long.size.map((v) => v > 0)]).toEqual([true, true, true, true])
    // the simple fan there folds over; cut by ears the polygon covers its area once, with one border
    const concave = meshFacts((await read('concave_polygon.obj')).data as Mesh)
    expect([concave.topology.nonManifoldEdges, concave.topology.flippedEdges, concave.topology.components]).toEqual([0, 0, 1])
    for (const name of ['point_cloud.obj', 'points.ply']) expect((await read(name)).data.kind).toBe('points')
    const colours = ((await read('float-color.ply')).data as Mesh).colours as Uint8Array
    expect(Math.max(...colours)).toBeGreaterThan(100)
  })
  test('a number that is none is refused with its line', async () => {
    const e = await oakError(read('number_formats.obj'))
    expect([e.code, /number_formats\.obj, line \d+/.test(e.where)]).toEqual(['bad-number', true])
  })
  test('a minimal 3MF', async () => {
    const r = await read('box.3mf')
    expect([r.unit, r.data.kind]).toEqual(['mm', 'mesh'])
    expect(topology(r.data as Mesh).closed).toBe(true)
  })
})

describe('STEP files against the geometry kernel of gmsh 4.8.4', () => {
  const ref = fixtureJson('cad/reference_external.json').files
  test.each(['cube-mm.step', 'cube-in.step', 'cube-m.step', 'rounded-cube.step'])('%s: faces, volume and area', async (name) => {
    const m = (await readAny(fixtureSource(`cad/${name}`))).data as Mesh
    const facts = meshFacts(m)
    expect(new Set(m.faces).size).toBe(ref[name].faces)
    expect(Math.abs(facts.volume / ref[name].volume_mm3 - 1)).toBeLessThan(1e-3)
    expect(Math.abs(facts.area / ref[name].area_mm2 - 1)).toBeLessThan(1e-3)
    expect(facts.topology.closed).toBe(true)
    for (let k = 0; k < 6; k++) expect(Math.abs(facts.box[k] - ref[name].bbox[k])).toBeLessThan(0.01)
  })
  test('a stepped shaft: the cylinder faces have the drawn diameters', async () => {
    const m = (await readAny(fixtureSource('cad/stepped_shaft_dev.step'))).data as Mesh
    const { features } = fixtureJson('cad/stepped_shaft_dev.json')
    const found = new Set<number>()
    for (const face of new Set(m.faces)) {
      const part = keepTriangles(
        m,
        Uint8Array.from(m.faces as Uint32Array, (f) => (f === face ? 1 : 0)),
      )
      const radii = Array.from({ length: part.vertices.length / 3 }, (_, i) => Math.hypot(part.vertices[3 * i], part.vertices[3 * i + 1]))
      const level = Array.from({ length: part.triangles.length / 3 }, (_, i) => Math.abs(triangleNormal(part.vertices, part.triangles, i)[2]))
      // walls whose normals lie flat and whose vertices all have one radius
      if (Math.max(...level) < 1e-3 && Math.max(...radii) - Math.min(...radii) < 1e-3) found.add(Math.round(2e3 * radii[0]) / 1e3)
    }
    expect([...found].sort((a, b) => a - b)).toEqual([...features.diameters].sort((a: number, b: number) => a - b))
  })
})

describe('from points back to the drawing', () => {
  test('the shaft, sampled and merged, has the volume and area of its closed formula, and lies on its CAD to 5 micrometres', async () => {
    const cad = (await readAny(fixtureSource('cad/stepped_shaft_dev.step'))).data as Mesh
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
    const cad = (await readAny(fixtureSource('cad/plate_holes_dev.step'))).data as Mesh
    const ref = fixtureJson('cad/plate_holes_dev.json')
    const s = sampleMesh(cad, 150_000)
    const { mesh } = await mergePasses([{ name: 'plate', data: makePoints({ xyz: s.xyz, normals: s.normals }), pose: identity() }], { cell: 0.6 }, quietContext)
    const euler = mesh.vertices.length / 3 - mesh.triangles.length / 2 + mesh.triangles.length / 3
    expect(meshFacts(mesh).topology.closed).toBe(true)
    expect(euler).toBe(ref.mesh_stl.euler_characteristic)
    expect(Math.abs(meshFacts(mesh).volume / ref.analytic.volume - 1)).toBeLessThan(1e-3)
  })
})
