import { describe, expect, test } from '@jest/globals'
import { readAny } from '../src/formats/index.ts'
import { meshFacts } from '../src/measure/facts.ts'
import { topology } from '../src/shape/topology.ts'
import type { Mesh } from '../src/shape/mesh.ts'
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
