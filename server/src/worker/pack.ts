import type { Item, Value } from '@oak-gauge/core/operations/operation.ts'
import { makeMarkers } from '@oak-gauge/core/markers/markers.ts'
import { makeMesh } from '@oak-gauge/core/shape/mesh.ts'
import { boundingBox, makePoints } from '@oak-gauge/core/shape/points.ts'
import { pointSpacing } from '@oak-gauge/core/shape/spacing.ts'
import type { ItemMeta, ItemRow } from '../db/models.ts'

export type Arrays = Record<string, Float32Array | Uint32Array | Uint8Array>

/** A pass that only got another pose is packed again and again: its points are looked at once. */
const spacings = new WeakMap<ArrayBufferLike, number>()
function spacingOf(xyz: Float32Array): number {
  let s = spacings.get(xyz.buffer)
  if (s === undefined) spacings.set(xyz.buffer, (s = pointSpacing(xyz, 500)))
  return s
}

/** A value as named arrays and a few facts: how it lies in the database. */
export function packValue(v: Value): { arrays: Arrays; meta: ItemMeta } {
  const present = (o: Record<string, Float32Array | Uint32Array | Uint8Array | undefined>): Arrays =>
    Object.fromEntries(Object.entries(o).filter(([, a]) => a)) as Arrays
  if (v.kind === 'points')
    return {
      arrays: present({ xyz: v.xyz, normals: v.normals, colours: v.colours }),
      meta: {
        count: v.xyz.length / 3,
        box: [...boundingBox(v.xyz)],
        faces: 0,
        spacing: spacingOf(v.xyz),
        ...(v.viewpoint ? { viewpoint: [...v.viewpoint] as [number, number, number] } : {}),
      },
    }
  if (v.kind === 'mesh') {
    let faces = 0
    if (v.faces) for (const f of v.faces) if (f >= faces) faces = f + 1
    return {
      arrays: present({ vertices: v.vertices, triangles: v.triangles, faces: v.faces, unmeasured: v.unmeasured, colours: v.colours }),
      meta: { count: v.triangles.length / 3, box: [...boundingBox(v.vertices)], faces, ...(v.surfaces ? { surfaces: [...v.surfaces] } : {}) },
    }
  }
  if (v.kind === 'markers')
    return {
      arrays: {
        positions: v.positions,
        diameters: v.diameters,
        normals: v.normals,
        covariance: v.covariance,
        frames: v.frames,
        perch: v.perch,
        ids: new TextEncoder().encode(v.ids.join('\n')),
      },
      meta: { count: v.ids.length, box: v.ids.length ? [...boundingBox(v.positions)] : null, faces: 0, scale: v.scale },
    }
  return { arrays: { values: v.values }, meta: { count: v.values.length, box: null, faces: 0, unit: v.unit } }
}

export function unpackItem(row: Pick<ItemRow, 'name' | 'kind' | 'meta' | 'pose'>, a: Arrays): Item {
  const pose = Float64Array.from(row.pose)
  if (row.kind === 'points')
    return {
      name: row.name,
      pose,
      data: makePoints({
        xyz: a['xyz'] as Float32Array,
        normals: a['normals'] as Float32Array | undefined,
        colours: a['colours'] as Uint8Array | undefined,
        viewpoint: row.meta.viewpoint,
      }),
    }
  if (row.kind === 'mesh')
    return {
      name: row.name,
      pose,
      data: makeMesh({
        vertices: a['vertices'] as Float32Array,
        triangles: a['triangles'] as Uint32Array,
        faces: a['faces'] as Uint32Array | undefined,
        surfaces: row.meta.surfaces,
        unmeasured: a['unmeasured'] as Uint8Array | undefined,
        colours: a['colours'] as Uint8Array | undefined,
      }),
    }
  if (row.kind === 'markers')
    return {
      name: row.name,
      pose,
      data: makeMarkers({
        ids: a['diameters'].length ? new TextDecoder().decode(a['ids']).split('\n') : [],
        positions: a['positions'],
        diameters: a['diameters'],
        normals: a['normals'],
        covariance: a['covariance'],
        frames: a['frames'],
        perch: a['perch'],
        scale: row.meta.scale,
      }),
    }
  return { name: row.name, pose, data: { kind: 'field', values: a['values'] as Float32Array, unit: row.meta.unit ?? '' } }
}
