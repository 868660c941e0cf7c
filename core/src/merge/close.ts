import type { RunContext } from '../base/run.ts'
import type { Mesh } from '../shape/mesh.ts'
import type { Lattice } from './lattice.ts'
export type Closing = 'open' | 'small' | 'closed'
export async function closeSurface(_l: Lattice, _v: Float32Array, mesh: Mesh, _c: Closing, _g: number, _ctx: RunContext): Promise<Mesh> { return mesh }
