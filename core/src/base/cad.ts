/**
 * What a face of a CAD body is, exactly, mm. `hollow`: the material lies outside of it, as around a bore.
 * A cone's radius is the one at `point`, growing along `axis` by the tangent of `halfAngle` (rad). A plane's `normal` looks out of the body.
 */
export type CadSurface =
  | { kind: 'plane'; area: number; point: Vector; normal: Vector }
  | { kind: 'cylinder'; area: number; point: Vector; axis: Vector; radius: number; hollow: boolean }
  | { kind: 'cone'; area: number; point: Vector; axis: Vector; radius: number; halfAngle: number; hollow: boolean }
  | { kind: 'sphere'; area: number; point: Vector; radius: number; hollow: boolean }
  | { kind: 'torus'; area: number; point: Vector; axis: Vector; major: number; minor: number; hollow: boolean }
  | { kind: 'free'; area: number }
type Vector = [number, number, number]

/** A CAD file as its kernel read it, mm, relative to the origin asked for. */
export interface CadShape {
  /** 3V */
  vertices: Float32Array
  /** 3T; vertices are not shared between faces */
  triangles: Uint32Array
  /** triangles of each face, one face after the other */
  triangleCounts: Uint32Array
  surfaces: CadSurface[]
  solids: number
  /** faces of the file itself, however often an assembly places them */
  distinctFaces: number
  /** from the exact surfaces, mm3 and mm2; volume 0 where there is no solid */
  volume: number
  area: number
  /** largest distance of a triangle from the true surface, mm */
  chord: number
  /** furthest that faces, edges and corners which shall meet lie apart, mm */
  apart: number
  /** faces and edges that contradict themselves, by the kernel's own check */
  valid: boolean
  /** what the kernel printed */
  said: string[]
}

/** The CAD kernel of the host. It is large and may hang or die on a damaged file: hosts keep it in a process of its own. */
export interface CadKernel {
  /**
   * Reads a STEP file. `chord`: mm, chosen by the part's size where it is left out. `origin`: mm, where coordinates are counted from.
   * Throws OakError 'bad-step', 'cad-time', 'cad-memory', Cancelled.
   */
  read(bytes: Uint8Array, options: { chord?: number; origin?: readonly [number, number, number] }, signal: { readonly aborted: boolean }): Promise<CadShape>
}

/** What a kernel printed, without its stars: the first three lines. */
export const kernelWords = (said: string[]) =>
  said
    .map((line) => line.replace(/[*\s]+/g, ' ').trim())
    .filter(Boolean)
    .slice(0, 3)
    .join('; ')
