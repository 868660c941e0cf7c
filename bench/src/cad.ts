import { readFileSync } from 'node:fs'
import { cadProcess } from '@oak-gauge/cad'
import type { CadSurface } from '@oak-gauge/core/base/cad.ts'
import { quietContext } from '@oak-gauge/core/base/run.ts'
import { bytesSource } from '@oak-gauge/core/formats/source.ts'
import { readStep } from '@oak-gauge/core/formats/step.ts'
import type { Mesh } from '@oak-gauge/core/shape/mesh.ts'

/** Radii and volumes of CAD files that nobody here made, by a geometry kernel of another program and by their drawings: core/test/fixtures/cad. */
const CASES = ['cube-mm', 'cube-in', 'cube-m', 'rounded-cube', 'screw', 'plate_holes_dev', 'stepped_shaft_dev']

/** `npm run bench -- cad` */
export async function benchCad(add: (what: string, got: string, must: string, aim: string) => void): Promise<void> {
  const folder = `${process.cwd()}/core/test/fixtures/cad/`
  const json = (name: string) => JSON.parse(readFileSync(folder + name, 'utf8')) as Record<string, Record<string, unknown>>
  const outside = json('reference_external.json')['files'] as Record<
    string,
    { volume_mm3: number; cylindrical_surface_radius_counts_in_file_units: Record<string, number> }
  >
  const ctx = { ...quietContext, cad: cadProcess() }
  let radius = 0
  let volume = 0
  let slowest = 0
  let bores = 0
  for (const name of CASES) {
    const start = performance.now()
    const r = await readStep(bytesSource(`${name}.step`, new Uint8Array(readFileSync(`${folder}${name}.step`))), [0, 0, 0], ctx)
    slowest = Math.max(slowest, performance.now() - start)
    const drawn = outside[`${name}.step`]
    const known = drawn?.volume_mm3 ?? (json(`${name}.json`)['analytic']['volume'] as number)
    volume = Math.max(volume, Math.abs((r.exact?.volume ?? 0) / known - 1))
    const radii = drawn
      ? Object.keys(drawn.cylindrical_surface_radius_counts_in_file_units).map(Number)
      : name === 'plate_holes_dev'
        ? [5, 9, 15]
        : (json(`${name}.json`)['features']['diameters'] as number[]).map((d) => d / 2)
    for (const s of (r.data as Mesh).surfaces as CadSurface[])
      if (s.kind === 'cylinder') {
        bores++
        radius = Math.max(radius, Math.min(...radii.map((k) => Math.abs(s.radius / k - 1))))
      }
  }
  add(`STEP: radii of ${bores} cylinders of ${CASES.length} public files, largest relative error`, radius.toExponential(1), '1e-9', '')
  add('STEP: their exact volumes, largest relative error', volume.toExponential(1), '1e-6', '')
  add('STEP: slowest of them, its own process and kernel included', `${(slowest / 1000).toFixed(1)} s`, '', '')
}
