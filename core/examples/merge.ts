import { adjustJointly, makePoints, meshFacts, mergePasses, quietContext, writeAny, type Placed, type Points } from '@oak-gauge/core'

/** One mesh out of passes (xyz and where the scanner stood, mm) that lie nearly right, as an STL. */
export async function mergeScans(passes: { xyz: Float32Array; viewpoint: [number, number, number] }[]) {
  const placed = passes.map((p, i): Placed<Points> => ({
    name: `pass ${i + 1}`,
    data: makePoints(p),
    pose: Float64Array.of(1, 0, 0, 0, 0, 1, 0, 0, 0, 0, 1, 0, 0, 0, 0, 1),
  }))
  const adjusted = await adjustJointly(placed, {}, quietContext)
  // motions that the surface does not hold are named; nothing is guessed
  for (const f of adjusted.free) console.warn(f)
  const { mesh, cell } = await mergePasses(
    placed.map((p, i) => ({ ...p, pose: adjusted.poses[i] })),
    { least: adjusted.error },
    quietContext,
  )
  return { error: adjusted.error, cell, facts: meshFacts(mesh), stl: [...writeAny('stl', mesh, 'part')] }
}
