import type { OpenCascadeInstance, TopoDS_Face } from 'replicad-opencascadejs'
import type { CadSurface } from '@oak-gauge/core/base/cad.ts'
import { cross, dot, length, minus, unit, type Vec3 } from '@oak-gauge/core/base/vec3.ts'

const middle = (a: Vec3, b: Vec3): Vec3 => [(a[0] + b[0]) / 2, (a[1] + b[1]) / 2, (a[2] + b[2]) / 2]

/**
 * The exact surface of a face in the body's frame, mm. Read off points of its parametrisation (ISO 10303-42, 4.5: u runs round, v along or up), since the
 * kernel's build has no cones and tori of its own to ask: exact to the rounding of doubles, placements of assemblies included.
 */
export function surfaceOf(oc: OpenCascadeInstance, face: TopoDS_Face): CadSurface {
  const props = new oc.GProp_GProps()
  oc.BRepGProp.SurfaceProperties(face, props, false, false)
  const area = Math.abs(props.Mass())
  props.delete()
  const adaptor = new oc.BRepAdaptor_Surface(face, true)
  const at = (u: number, v: number): Vec3 => {
    const p = adaptor.EvalD0(u, v)
    const out: Vec3 = [p.X(), p.Y(), p.Z()]
    p.delete()
    return out
  }
  /** out of the body, in the middle of the face */
  const outward = (u: number, v: number): Vec3 => {
    const d = adaptor.EvalD1(u, v)
    const n = unit(cross([d.D1U.X(), d.D1U.Y(), d.D1U.Z()], [d.D1V.X(), d.D1V.Y(), d.D1V.Z()]))
    return face.Orientation() === oc.TopAbs_Orientation.TopAbs_REVERSED ? [-n[0], -n[1], -n[2]] : n
  }
  const u = (adaptor.FirstUParameter() + adaptor.LastUParameter()) / 2
  const v = (adaptor.FirstVParameter() + adaptor.LastVParameter()) / 2
  const half = Math.PI / 2
  try {
    const { GeomAbs_Plane, GeomAbs_Cylinder, GeomAbs_Cone, GeomAbs_Sphere, GeomAbs_Torus } = oc.GeomAbs_SurfaceType
    switch (adaptor.GetType()) {
      case GeomAbs_Plane:
        return { kind: 'plane', area, point: at(u, v), normal: outward(u, v) }
      case GeomAbs_Cylinder:
      case GeomAbs_Cone: {
        // two opposite points at each of two heights a millimetre apart along the surface
        const [a, b, higher] = [at(0, v), at(Math.PI, v), at(0, v + 1)]
        const point = middle(a, b)
        const radial = minus(a, b)
        const turned = minus(at(half, v), point)
        let axis = unit(cross(radial, turned))
        const radius = length(radial) / 2
        const hollow = dot(outward(u, v), minus(at(u, v), point)) < 0
        if (adaptor.GetType() === GeomAbs_Cylinder) return { kind: 'cylinder', area, point, axis, radius, hollow }
        const along = minus(higher, a)
        if (dot(along, axis) < 0) axis = [-axis[0], -axis[1], -axis[2]]
        const grows = length(minus(higher, at(Math.PI, v + 1))) / 2 - radius
        let halfAngle = Math.atan2(grows, dot(along, axis))
        if (halfAngle < 0) {
          halfAngle = -halfAngle
          axis = [-axis[0], -axis[1], -axis[2]]
        }
        return { kind: 'cone', area, point, axis, radius, halfAngle, hollow }
      }
      case GeomAbs_Sphere: {
        const [a, b] = [at(0, 0), at(Math.PI, 0)]
        const point = middle(a, b)
        return { kind: 'sphere', area, point, radius: length(minus(a, b)) / 2, hollow: dot(outward(u, v), minus(at(u, v), point)) < 0 }
      }
      case GeomAbs_Torus: {
        const [a, b, inner] = [at(0, 0), at(Math.PI, 0), at(0, Math.PI)]
        const point = middle(a, b)
        const ring = middle(a, inner)
        const axis = unit(minus(at(0, half), ring))
        const tube = middle(at(u, 0), at(u, Math.PI))
        return {
          kind: 'torus',
          area,
          point,
          axis,
          major: length(minus(ring, point)),
          minor: length(minus(a, inner)) / 2,
          hollow: dot(outward(u, v), minus(at(u, v), tube)) < 0,
        }
      }
      default:
        return { kind: 'free', area }
    }
  } finally {
    adaptor.delete()
  }
}
