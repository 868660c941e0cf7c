import type { Markers } from '../markers/markers.ts'
import type { Field } from '../shape/field.ts'
import type { Mesh } from '../shape/mesh.ts'
import type { Placed, Points } from '../shape/points.ts'
import { num } from './obj.ts'

/** Deviation of every place as CSV: x, y, z (job coordinates, mm), deviation. Decimal point, comma between. */
export function* writeFieldCsv(field: Field, at: Placed<Mesh | Points | Field | Markers>): Generator<Uint8Array> {
  const encoder = new TextEncoder()
  const xyz = at.data.kind === 'mesh' ? at.data.vertices : at.data.kind === 'points' ? at.data.xyz : new Float32Array(0)
  const m = at.pose
  yield encoder.encode(`x_mm,y_mm,z_mm,deviation_${field.unit}\n`)
  for (let from = 0; from < field.values.length; from += 16384) {
    let out = ''
    for (let i = from; i < Math.min(field.values.length, from + 16384); i++) {
      const [x, y, z] = [xyz[3 * i], xyz[3 * i + 1], xyz[3 * i + 2]]
      const v = field.values[i]
      const place = [0, 4, 8].map((r) => num(m[r] * x + m[r + 1] * y + m[r + 2] * z + m[r + 3])).join(',')
      out += `${place},${Number.isNaN(v) ? '' : v.toFixed(5)}\n`
    }
    yield encoder.encode(out)
  }
}
