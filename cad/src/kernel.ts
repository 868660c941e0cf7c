import init, { type OpenCascadeInstance, type TopoDS_Shape } from 'replicad-opencascadejs'
import { kernelWords, type CadKernel, type CadShape, type CadSurface } from '@oak-gauge/core/base/cad.ts'
import { OakError } from '@oak-gauge/core/base/errors.ts'
import { surfaceOf } from './surface.ts'

/** Of the diagonal of the part: as fine as a small part needs. */
const CHORD_SHARE = 2.5e-5
/** mm: finer than any scan of a large one */
const FINE = 0.005
/** More triangles than these help nobody. */
const MOST_TRIANGLES = 1_500_000
/** The kernel's time goes with the square of the triangles of one face: 60 000 of a torus 1.3 s, 95 000 3.5 s, 170 000 12 s. */
const MOST_OF_A_FACE = 100_000
/** rad between neighbouring triangles */
const ANGLE = 0.1
/** of the diagonal: how coarse it begins */
const COARSE_SHARE = 2.5e-4

/**
 * Reads a STEP file in this thread with a kernel of its own (OCCT; 0.4 s and 300 MB): faces keep what they are, assemblies their placements, lengths become mm.
 * Throws OakError 'bad-step'. On a damaged file it may take for ever: see `cadProcess`.
 */
export async function readShape(bytes: Uint8Array, options: { chord?: number; origin?: readonly [number, number, number] }): Promise<CadShape> {
  const said: string[] = []
  const oc = await init({ print: (line: string) => said.push(line), printErr: (line: string) => said.push(line) })
  try {
    const { whole, shape } = placed(oc, bytes, options.origin, said)
    return { ...measured(oc, shape, options.chord), distinctFaces: distinct(oc, whole), said }
  } catch (e) {
    if (e instanceof OakError) throw e
    throw badStep(`The CAD kernel gave up on the file${tail(said, inKernel(oc, e))}.`)
  }
}

function placed(
  oc: OpenCascadeInstance,
  bytes: Uint8Array,
  origin: readonly number[] | undefined,
  said: string[],
): { whole: TopoDS_Shape; shape: TopoDS_Shape } {
  oc.FS.writeFile('/part.step', bytes)
  const reader = new oc.STEPControl_Reader()
  const status = reader.ReadFile('/part.step')
  oc.FS.unlink('/part.step')
  if (status !== oc.IFSelect_ReturnStatus.IFSelect_RetDone) throw badStep(`The CAD kernel cannot read the file${tail(said)}.`)
  reader.TransferRoots(new oc.Message_ProgressRange())
  const whole = reader.OneShape()
  if (whole.IsNull()) throw badStep(`No body could be read from the file${tail(said)}.`)
  if (!origin?.some((v) => v !== 0)) return { whole, shape: whole }
  // single precision of the triangles begins at the part
  const move = new oc.gp_Trsf()
  move.SetTranslation(new oc.gp_Vec(-origin[0], -origin[1], -origin[2]))
  return { whole, shape: whole.Moved(new oc.TopLoc_Location(move), false) }
}

function measured(oc: OpenCascadeInstance, shape: TopoDS_Shape, asked: number | undefined): Omit<CadShape, 'distinctFaces' | 'said'> {
  const surfaces: CadSurface[] = []
  const { TopAbs_FACE, TopAbs_EDGE, TopAbs_VERTEX, TopAbs_SOLID, TopAbs_SHAPE } = oc.TopAbs_ShapeEnum
  const each = (kind: typeof TopAbs_FACE | typeof TopAbs_SOLID, run: (s: TopoDS_Shape) => void) => {
    const found = new oc.TopExp_Explorer(shape, kind, TopAbs_SHAPE)
    for (; found.More(); found.Next()) run(found.Current())
    found.delete()
  }
  each(TopAbs_FACE, (s) => surfaces.push(surfaceOf(oc, oc.TopoDS.Face(s))))
  if (surfaces.length === 0) throw badStep('No face could be read from the file.')
  let solids = 0
  each(TopAbs_SOLID, () => solids++)
  const props = new oc.GProp_GProps()
  if (solids) oc.BRepGProp.VolumeProperties(shape, props, true, false, false)
  const volume = solids ? props.Mass() : 0
  const box = new oc.Bnd_Box()
  oc.BRepBndLib.AddOptimal(shape, box, false, false)
  const diagonal = Math.sqrt(box.SquareExtent())
  if (!(diagonal > 0 && diagonal < 1e9)) throw badStep('The part in the file has no size, or none that ends.')
  const { chord, mesh, triangleCounts } = covered(oc, shape, asked, diagonal)
  const heap = memory(oc)
  if (triangleCounts.length !== surfaces.length) throw badStep('The CAD kernel could not lay triangles on every face.')
  const check = new oc.BRepCheck_Analyzer(shape, true, false, false)
  return {
    vertices: new Float32Array(heap, mesh.getVerticesPtr(), mesh.getVerticesSize()).slice(),
    triangles: new Uint32Array(heap, mesh.getTrianglesPtr(), mesh.getTrianglesSize()).slice(),
    triangleCounts,
    surfaces,
    solids,
    volume,
    area: surfaces.reduce((s, f) => s + f.area, 0),
    chord,
    apart: Math.max(...[TopAbs_FACE, TopAbs_EDGE, TopAbs_VERTEX].map((k) => oc.BRep_Tool.MaxTolerance(shape, k))),
    valid: check.IsValid(),
  }
}

/** Triangles as fine as wished, or as they can be: a doubly curved face takes as many more as its chord gets smaller. */
function covered(oc: OpenCascadeInstance, shape: TopoDS_Shape, asked: number | undefined, diagonal: number) {
  const wished = Math.min(FINE, CHORD_SHARE * diagonal)
  let chord = asked ?? COARSE_SHARE * diagonal
  for (;;) {
    oc.BRepTools.Clean(shape, true)
    const mesh = oc.ReplicadMeshExtractor.extract(shape, chord, ANGLE, true)
    const groups = new Int32Array(memory(oc), mesh.getFaceGroupsPtr(), mesh.getFaceGroupsSize())
    const triangleCounts = new Uint32Array(groups.length / 3)
    let most = 0
    for (let f = 0; f < triangleCounts.length; f++) most = Math.max(most, (triangleCounts[f] = groups[3 * f + 1] / 3))
    const room = Math.min(MOST_TRIANGLES / Math.max(1, mesh.getTrianglesSize() / 3), MOST_OF_A_FACE / Math.max(1, most))
    // all the way where that is sure to do, by halves where it is not
    const next = room * wished >= chord ? wished : chord / 2
    if (asked !== undefined || chord <= wished || room < 2) return { chord, mesh, triangleCounts }
    mesh.delete()
    chord = Math.max(wished, next)
  }
}

/** Faces of the file itself: placed twice by an assembly, a face is one. */
function distinct(oc: OpenCascadeInstance, shape: TopoDS_Shape): number {
  const { TopAbs_FACE, TopAbs_SHAPE } = oc.TopAbs_ShapeEnum
  const known = new Map<number, TopoDS_Shape[]>()
  const here = new oc.TopLoc_Location()
  let n = 0
  const found = new oc.TopExp_Explorer(shape, TopAbs_FACE, TopAbs_SHAPE)
  for (; found.More(); found.Next()) {
    const face = found.Current().Located(here, false)
    const hash = oc.ReplicadShapeHasher.HashCode(face, 2 ** 31 - 1)
    const same = known.get(hash) ?? []
    if (same.some((f) => f.IsPartner(face))) continue
    known.set(hash, [...same, face])
    n++
  }
  return n
}

const badStep = (message: string) => new OakError('bad-step', message, { remedy: 'Export it again as AP214 or AP242, with solids.' })

/** Grows, and is another one then: asked for anew after each call. */
const memory = (oc: OpenCascadeInstance) => (oc as unknown as { wasmMemory: { buffer: ArrayBuffer } }).wasmMemory.buffer

/** What an exception of the kernel says of itself. */
function inKernel(oc: OpenCascadeInstance, e: unknown): string {
  try {
    return String((oc as unknown as { getExceptionMessage(e: unknown): string[] }).getExceptionMessage(e).filter(Boolean).join(', '))
  } catch {
    return (e as Error).message
  }
}

const tail = (said: string[], more = '') => {
  const words = kernelWords(more ? [...said, more] : said)
  return words ? `: ${words}` : ''
}

/** The kernel in the thread that asks: for tests, and for hosts that guard themselves. */
export const cadHere: CadKernel = { read: readShape }
