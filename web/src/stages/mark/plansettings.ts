import type { PlainShape } from '@oak-gauge/core/markers/plan/shape.ts'
import type { PlanSettings } from '@oak-gauge/core/operations/plan-markers.ts'

/** What the card of the plan asks for. */
export type Settings = Pick<
  PlanSettings,
  'up' | 'where' | 'sizes' | 'least' | 'wanted' | 'spacing' | 'clearEdge' | 'blocks' | 'towers' | 'from' | 'keepFaces' | 'keepClear' | 'stock'
> & { shape: PlainShape | null }

export const USUAL: Settings = {
  shape: null,
  up: '+z',
  where: 'both',
  sizes: 'mixed',
  least: 4,
  wanted: 6,
  spacing: 50,
  clearEdge: 25,
  blocks: true,
  towers: true,
  from: 'auto',
  keepFaces: [],
  keepClear: [],
  stock: {},
}
