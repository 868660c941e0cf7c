import { ballBarSchema, type BallBar } from '@oak-gauge/core/calibrate/ballbar.ts'
import { plateSchema, type Plate } from '@oak-gauge/core/calibrate/plate.ts'

/** Plates and ball bars of the demo workshop; all invented. Glass plates with a chrome print, bars of carbon fibre with ceramic spheres. */
const plate = (id: string, pitch: number, columns: number, rows: number, date: string, more: object = {}): Plate =>
  plateSchema.parse({
    format: 'oak-gauge plate',
    version: 1,
    id,
    name: `Quoin ${pitch}`,
    columns,
    rows,
    pitch,
    diameter: 0.42 * pitch,
    largeDiameter: 0.63 * pitch,
    large: [
      [4, 3],
      [10, 3],
      [4, 8],
    ],
    certificate: { number: `BC-${id}`, laboratory: 'Brindle Cut measuring room', date, expansion: 8.7 },
    ...more,
  })

export const PLATES: Plate[] = [
  plate('Q4', 4, 15, 11, '2026-03-11'),
  plate('Q8', 8, 23, 17, '2026-03-11'),
  plate('Q12', 12, 19, 13, '2026-03-12'),
  plate('Q20', 20, 19, 13, '2026-03-12'),
]

const bar = (id: string, distance: number, diameter: number): BallBar =>
  ballBarSchema.parse({
    format: 'oak-gauge ball bar',
    version: 1,
    id,
    name: `Windlass ${Math.round(distance)}`,
    spheres: [
      { diameter, uncertainty: 0.0008 },
      { diameter: diameter + 0.0021, uncertainty: 0.0008 },
    ],
    distance,
    uncertainty: 0.0015,
    certificate: { number: `BC-${id}`, laboratory: 'Brindle Cut measuring room', date: '2026-02-20', expansion: 0.8 },
  })

export const BALL_BARS: BallBar[] = [bar('W300', 300.0127, 38.1004), bar('W150', 150.0064, 25.4009)]
