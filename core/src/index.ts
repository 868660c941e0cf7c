/**
 * What the core offers to a program of one's own: values, files in and out, the methods, and the operations that the application is
 * made of. Lengths are millimetres, angles radians, poses 4 x 4 row major (local to job). Everything runs in a page, a worker or on a
 * server; what takes time takes a RunContext, which tells progress, may be cancelled, and lends threads. Errors are OakErrors: a code,
 * what happened, where, and what to do. Deeper parts can be imported by their path, and may change.
 */
export { OakError } from './base/errors.ts'
export { fromRotationVector, identity, invertRigid, multiply, transformPoint, translation, type Mat4 } from './base/mat4.ts'
export type { CadKernel, CadShape, CadSurface } from './base/cad.ts'
export { quietContext, type Parallel, type RunContext } from './base/run.ts'

export type { Field } from './shape/field.ts'
export { makeMesh, transformMesh, type Mesh } from './shape/mesh.ts'
export { makePoints, placePoints, type Placed, type Points } from './shape/points.ts'
export { sampleMesh } from './shape/sample.ts'
export { estimateNormals } from './shape/normals.ts'
export { topology, type Topology } from './shape/topology.ts'

export { readAny, writeAny } from './formats/index.ts'
export { bytesSource, type ByteSource } from './formats/source.ts'

export { thinPoints } from './clean/thin.ts'
export { findIslands, findStrays } from './clean/strays.ts'
export { alignByShape } from './align/coarse.ts'
export { alignFine } from './align/fine.ts'
export { adjustJointly, type JointOptions } from './align/joint.ts'
export type { JointResult } from './align/jointreport.ts'
export { fitRigid } from './align/pairs.ts'
export { mergePasses, type MergeOptions } from './merge/merge.ts'
export { closeGaps } from './repair/gaps.ts'
export { orient } from './repair/orientation.ts'
export { reduceMesh } from './repair/reduce.ts'
export { byDifferences, leastSquares, type LeastSquaresFit, type Residuals } from './fit/leastsquares.ts'
export { fitSphere, type SphereFit } from './fit/sphere.ts'
export { bestFit, type BestFitOptions, type BestFitResult } from './datum/bestfit.ts'
export { deviationTo } from './inspect/deviation.ts'
export { meshFacts, type MeshFacts } from './measure/facts.ts'

export { chordUncertainty } from './uncertainty/chord.ts'
export { combined, COVERAGE, type Contribution } from './uncertainty/contribution.ts'
export { decide, type Verdict } from './uncertainty/decision.ts'
export { patchMean, type Patch } from './uncertainty/patch.ts'
export { placeUncertainty, type PoseUncertainty } from './uncertainty/pose.ts'

export type { Evidence, Item, Operation } from './operations/operation.ts'
export { QUANTITIES, wordsOf, type Quantity, type QuantityId } from './operations/quantities.ts'
export { parseRecipe, runRecipe, type Recipe } from './operations/recipe.ts'
export { operation, OPERATIONS, runOperation } from './operations/registry.ts'
