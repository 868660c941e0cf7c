import { identity, invertRigid, multiply, transformPoint } from '@oak-gauge/core/base/mat4.ts'
import { seeded } from '@oak-gauge/core/base/random.ts'
import type { RunContext } from '@oak-gauge/core/base/run.ts'
import type { Field, Inputs, Item } from '@oak-gauge/core/operations/operation.ts'
import { runOperation } from '@oak-gauge/core/operations/registry.ts'
import { vertexNormals, type Mesh } from '@oak-gauge/core/shape/mesh.ts'
import { COVERAGE } from '@oak-gauge/core/uncertainty/contribution.ts'
import { decide } from '@oak-gauge/core/uncertainty/decision.ts'
import { lineageFigures, type Ran } from '@oak-gauge/core/uncertainty/lineage.ts'
import { smallPose } from '@oak-gauge/demo/passes.ts'
import { zooPasses, type ZooScene } from '@oak-gauge/demo/zoo/record.ts'
import { ZOO, type ZooPart } from '@oak-gauge/demo/zoo/parts.ts'

/** parts of the zoo whose setups hold one another */
const PARTS = ['bracket', 'knob', 'ribs', 'sill handle', 'tiny cube']
const SPACING = 0.4
const SIGMA = 0.03
/** flags of one part from one recording */
const SPOTS = 65
/** true deviations drawn around the limit at each */
const DRAWS = 2

interface Tally {
  draws: number
  wrong: number
  open: number
  /** squares of error over stated error */
  z: number[]
  /** share of each source in the variance */
  parts: Partial<Record<string, number>>
  /** spots that could not be judged, by what was not known */
  unknown: Partial<Record<string, number>>
}

/**
 * `npm run bench -- verdicts`: parts of the zoo recorded with correlated noise go the whole way: adjusted, merged, laid on their
 * nominal, compared. The nominal is the part itself, so that every deviation is an error of measurement. At picked spots a true
 * deviation around the limit is added, and the verdict of the flag is held against it.
 */
export async function benchVerdicts(
  kept: (part: ZooPart, spacing: number, ctx: RunContext) => Promise<ZooScene>,
  ctx: RunContext,
  add: (what: string, got: string, must: string, aim: string) => void,
  print: (line: string) => void,
  seeds = 4,
): Promise<void> {
  const all: Tally = { draws: 0, wrong: 0, open: 0, z: [], parts: {}, unknown: {} }
  const start = performance.now()
  for (const part of ZOO.filter((p) => PARTS.includes(p.name))) {
    const scene = await kept(part, SPACING, ctx)
    for (let seed = 1; seed <= seeds; seed++) {
      const t = await oneRecording(scene, seed, ctx)
      const shares = Object.entries(t.parts).map(([k, v]) => `${k} ${(100 * Number(v)).toFixed(0)} %`)
      const unknown = Object.entries(t.unknown).map(([k, v]) => `${k} unknown at ${v}`)
      const facts = [`${t.draws} draws`, `wrong ${t.wrong}`, `open ${t.open}`, `error over stated ${rms(t.z).toFixed(2)}`, ...shares, ...unknown]
      print(`${part.name.padEnd(12)} seed ${seed}: ${facts.join(', ')}`)
      all.draws += t.draws
      all.wrong += t.wrong
      all.open += t.open
      all.z.push(...t.z)
    }
  }
  add(
    `verdicts around a limit (${PARTS.join(', ')}; correlated noise), wrong of ${all.draws}`,
    `${((100 * all.wrong) / all.draws).toFixed(1)} %, left open ${((100 * all.open) / all.draws).toFixed(0)} %, errors over stated ones ${rms(all.z).toFixed(2)} (${((performance.now() - start) / 1000).toFixed(0)} s)`,
    '5 %',
    '3 %',
  )
}

const rms = (v: number[]) => Math.sqrt(v.reduce((s, x) => s + x * x, 0) / Math.max(1, v.length))

async function oneRecording(scene: ZooScene, seed: number, ctx: RunContext): Promise<Tally> {
  const { unit } = scene
  const random = seeded(1000 + seed)
  const passes = zooPasses(scene, { sigma: SIGMA, correlated: true, seed, tracking: 0.08 })
  const second = passes.find((p) => p.setup === 1)
  // as picked pairs leave the second setup: a millimetre and half a degree off
  const move = second && multiply(smallPose(random, 0.5, unit, [0, 0, 0]), multiply(second.truePose, invertRigid(second.pose)))
  const ran: Ran[] = []
  const slots = (ports: Inputs): Record<string, string[]> =>
    Object.fromEntries(Object.entries(ports).map(([k, l]) => [k, l.map((i) => ('name' in i ? i.name : 'file'))]))
  const run = async (operation: string, inputs: Inputs, params: object) => {
    const r = await runOperation(operation, inputs, params, ctx)
    ran.push({ operation, inputs: slots(inputs), outputs: slots(r.outputs), evidence: r.evidence })
    return r.outputs
  }
  const placed = passes.map((p): Item => ({ name: p.name, data: p.points, pose: p.setup && move ? multiply(move, p.pose) : p.pose, setup: `${p.setup}` }))
  // what a ball bar would show of it: the smooth field, half of the noise; ripple averages out over a sphere
  const error = 0.5 * SIGMA * unit
  ran.push({
    operation: 'import',
    inputs: {},
    outputs: { item: placed.map((p) => p.name) },
    evidence: null,
    recordedWith: { distance: { error: Math.sqrt(3) * error, U: 0 } },
  })
  const adjusted = await run('adjust', { passes: placed }, {})
  const merged = await run('merge', { passes: adjusted['passes'] }, {})
  const nominal: Item<Mesh> = { name: 'nominal', data: scene.mesh, pose: identity() }
  const fitted = await run('best-fit', { measured: merged['mesh'], nominal: [nominal] }, { byShape: false, reach: 2 * unit })
  const [part] = fitted['measured'] as Item<Mesh>[]
  const { field } = await run('deviation', { measured: [part], nominal: [nominal] }, { maxDistance: 3 * unit })
  const values = (field as Item<Field>[])[0].data.values
  const lineage = lineageFigures(ran, part.name)
  const out: Tally = { draws: 0, wrong: 0, open: 0, z: [], parts: {}, unknown: {} }
  const radius = 0.8 * unit
  const normals = vertexNormals(part.data)
  for (let tries = 0; out.z.length < SPOTS && tries < 40 * SPOTS; tries++) {
    const v = random.below(values.length)
    if (Number.isNaN(values[v]) || !onOneFace(part.data, normals, v, 1.5 * radius)) continue
    const at = transformPoint(part.pose, part.data.vertices[3 * v], part.data.vertices[3 * v + 1], part.data.vertices[3 * v + 2])
    const flag = (await runOperation('flag', { field, on: [part], nominal: [nominal] }, { at, radius, lineage }, ctx)).evidence
    const [found] = flag.quantities
    for (const p of found.parts ?? []) if (p.u === 'unknown') out.unknown[p.source] = (out.unknown[p.source] ?? 0) + 1
    if (typeof found.u !== 'number' || typeof found.value !== 'number') continue
    out.z.push(found.value / found.u)
    for (const p of found.parts ?? []) out.parts[p.source] = (out.parts[p.source] ?? 0) + (Number(p.u) / found.u) ** 2 / SPOTS
    // a part that is so much larger there: the deviation found is larger by the same, its uncertainty is not
    const limit = 20 * found.u
    for (let draw = 0; draw < DRAWS; draw++) {
      const truth = limit + 3 * found.u * (2 * random.next() - 1)
      const verdict = decide(found.value + truth, limit, COVERAGE * found.u)
      out.draws++
      if (verdict === 'not decidable') out.open++
      else if ((verdict === 'pass') !== truth <= limit) out.wrong++
    }
  }
  return out
}

/** No edge within reach: a flag stands on a face. */
function onOneFace(mesh: Mesh, normals: Float32Array, v: number, radius: number): boolean {
  const p = mesh.vertices
  const [x, y, z] = [p[3 * v], p[3 * v + 1], p[3 * v + 2]]
  for (let i = 0; i < p.length; i += 3) {
    if ((p[i] - x) ** 2 + (p[i + 1] - y) ** 2 + (p[i + 2] - z) ** 2 > radius * radius) continue
    if (normals[i] * normals[3 * v] + normals[i + 1] * normals[3 * v + 1] + normals[i + 2] * normals[3 * v + 2] < 0.9) return false
  }
  return true
}
