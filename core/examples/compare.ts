import {
  bestFit,
  bytesSource,
  combined,
  COVERAGE,
  decide,
  deviationTo,
  identity,
  patchMean,
  placePoints,
  placeUncertainty,
  quietContext,
  readAny,
} from '@oak-gauge/core'

/** How far a scan is from its nominal at one place (mm of the nominal), and whether that is within the limit. */
export async function compare(scan: Uint8Array, nominal: Uint8Array, at: [number, number, number], limit: number, scannerU: number) {
  const measured = (await readAny(bytesSource('scan.xyz', scan))).data
  const ideal = (await readAny(bytesSource('nominal.stl', nominal))).data
  if (measured.kind !== 'points' || ideal.kind !== 'mesh') throw new Error('points and a mesh are wanted')
  // byShape: true would find the pose from anywhere
  const fit = await bestFit({ name: 'scan', data: measured, pose: identity() }, { name: 'nominal', data: ideal, pose: identity() }, {}, quietContext)
  const placed = placePoints(measured, fit.pose)
  const { values, beyond } = await deviationTo(ideal, placed.xyz, 5, quietContext)
  values.forEach((_, i) => beyond[i] && (values[i] = NaN))
  const spot = patchMean(values, placed, identity(), at, 3)
  const u = combined([{ u: scannerU / COVERAGE }, { u: spot.normal ? placeUncertainty(fit.placing, at, spot.normal) : 'unknown' }, { u: spot.standardError }])
  const U = u === 'unknown' ? u : COVERAGE * u
  return { deviation: spot.mean, U, verdict: decide(spot.mean, limit, U) }
}
