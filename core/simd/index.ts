/** Entry of the vector kernels: everything exported here can be called from src/simd/machine.ts. */
export { setRows } from './rows'
export { setField, field, surfaceAt } from './field'
export { planes, edges } from './normals'
export { nodeBytes, setTriangles, closestTriangles } from './triangles'
export { fitPlane, count, cx, cy, cz, nx, ny, nz, sigma, breadth } from './plane'
export { setWeights, neighbours, fitStrip, fitSurface, surfaceFound } from './surface'

/** First byte that the host may use. */
export function heap(): usize {
  return (__heap_base + 63) & ~63
}
