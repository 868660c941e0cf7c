import { z } from 'zod'
import { f32 } from '../base/arrays.ts'
import { OakError } from '../base/errors.ts'
import { identity, isIdentity, multiply } from '../base/mat4.ts'
import type { Markers } from '../markers/markers.ts'
import { adjustJointly, type JointOptions } from '../align/joint.ts'
import { makePoints, type Points } from '../shape/points.ts'
import { alignmentEvidence } from './alignment-evidence.ts'
import { defineOperation, mapsOf, MAPS_ALONG, pointsOf, type Item } from './operation.ts'

const passHeld = z.object({ about: z.array(z.number()).length(3), covariance: z.array(z.number()).length(36).nullable() })

/** A pass that was held by its shape alone has axes of its own: it was recorded in a setup, and does not lie in it. */
const inSetups = (passes: Item<Points>[], held: readonly (z.output<typeof passHeld> | null)[]): Item<Points>[] =>
  passes.map((p, i) => (held[i]?.covariance === null ? { ...p, setup: `\u0000own ${i}` } : p))

/** Number of the setup of each pass; a pass of unknown setup is one of its own. Nothing where all are unknown. */
function setupsOf(passes: Item<Points>[]): number[] | undefined {
  const names = passes.map((p, i) => p.setup ?? `\u0000${i}`)
  return passes.some((p) => p.setup !== undefined) ? names.map((n) => names.indexOf(n)) : undefined
}

/** Setups but the anchor's whose passes all still lie as they were recorded: nobody has brought them to another. */
function neverBrought(passes: Item<Points>[], setups: number[], anchor: number): number[] {
  const asRecorded = (s: number) => passes.every((p, i) => setups[i] !== s || (p.setup !== undefined && isIdentity(p.pose)))
  const others = [...new Set(setups)].filter((s) => s !== setups[anchor])
  return asRecorded(setups[anchor]) ? others.filter(asRecorded) : []
}

/** Maps of the setups that the passes were recorded in. */
function markersOf(maps: Item<Markers>[], passes: Item<Points>[], setups: number[]): NonNullable<JointOptions['markers']> {
  const setupOf = (m: Item<Markers>) => (m.setup === undefined ? -1 : passes.findIndex((p) => p.setup === m.setup))
  return {
    maps: maps.filter((m) => setupOf(m) >= 0).map((map) => ({ setup: setups[setupOf(map)], map })),
    // the person gave each map its name
    names: passes.map((_, i) => maps.find((m) => setupOf(m) >= 0 && setups[setupOf(m)] === i)?.name ?? ''),
  }
}

export const adjust = defineOperation({
  name: 'adjust',
  version: 9,
  title: 'Joint adjustment',
  stage: 'Align',
  shows: ['alignment-worst-pass', 'gap-between-passes-rms'],
  about: 'Moves all passes but the anchor a little, all at once, so that the remaining error is shared, and says how large it is.',
  params: z.object({
    anchor: z.number().int().min(0).default(0).describe('Number of the pass that stays put, from 0.'),
    gateStart: z
      .number()
      .positive()
      .optional()
      .describe('Largest gap at the beginning that still counts as the same surface, mm. Default: from the gaps that there are.'),
    tracking: z.number().positive().optional().describe('How far off the scanner may be from pass to pass of one setup, mm. Default: half a point spacing.'),
    gateEnd: z.number().positive().optional().describe('The same at the end, mm. Default: 1.3 point spacings.'),
    held: z
      .array(passHeld.nullable())
      .default([])
      .describe('How well each pass lies in the axes of its setup, of recorded ones; covariance null: its axes are its own. Taken from the ledger.'),
    radius: z.number().positive().optional().describe('Radius over which surfaces are smoothed before they are compared, mm. Default: 4.4 point spacings.'),
  }),
  inputs: {
    passes: { kinds: ['points'], many: true, setups: true, about: 'all passes' },
    maps: { kinds: ['markers'], many: true, setups: true, optional: true, about: 'markers of the setups: what two setups share holds them beside the surface' },
  },
  outputs: {
    passes: { kind: 'points', many: true, replaces: 'passes', about: 'adjusted passes' },
    maps: MAPS_ALONG.output,
    places: { kind: 'points', about: 'where gaps were measured, in the job' },
    gaps: { kind: 'field', on: 'places', about: 'signed gap at each of these places, mm' },
  },
  async run(inputs, params, ctx) {
    const passes = inSetups(pointsOf(inputs, 'passes'), params.held)
    const setups = setupsOf(passes)
    const anchor = Math.min(params.anchor, passes.length - 1)
    const r = await adjustJointly(
      passes,
      {
        anchor,
        ...(params.gateStart ? { gateStart: params.gateStart } : {}),
        ...(params.tracking ? { tracking: params.tracking } : {}),
        held: params.held.map((h) => (h?.covariance ? { about: h.about, covariance: h.covariance } : null)),
        ...(setups ? { setups, markers: markersOf(mapsOf(inputs), passes, setups) } : {}),
        ...(params.gateEnd ? { gateEnd: params.gateEnd } : {}),
        ...(params.radius ? { radius: params.radius } : {}),
      },
      ctx,
    )
    const apart = setups ? neverBrought(passes, setups, anchor) : []
    // surface that lies flat on surface looks well aligned, wherever it belongs
    const loose = apart.find((s) => r.free.some((f) => f.passes.some((i) => setups?.[i] === s)))
    if (loose !== undefined) {
      const [first] = passes.filter((_, i) => setups?.[i] === loose)
      throw new OakError('not-together', `The setup of ${first.name} was never brought to the anchor’s, and what they share does not hold it there.`, {
        remedy: 'Bring the setups together first: by shape, by picked pairs, or by markers.',
      })
    }
    const step = Math.max(1, Math.ceil(r.gaps.length / 60_000))
    const n = Math.floor(r.gaps.length / step)
    const xyz = f32(3 * n)
    const values = f32(n)
    for (let i = 0; i < n; i++) {
      values[i] = r.gaps[i * step]
      for (let k = 0; k < 3; k++) xyz[3 * i + k] = r.gapXyz[3 * i * step + k]
    }
    return {
      outputs: {
        passes: passes.map((p, i) => ({ ...p, pose: r.poses[i] })),
        maps: mapsOf(inputs).map((m) => {
          const i = passes.findIndex((p) => p.setup !== undefined && p.setup === m.setup)
          const move = setups && r.moves?.get(setups[i])
          return move ? { ...m, pose: multiply(move, m.pose) } : m
        }),
        places: [{ name: 'where gaps were measured', data: makePoints({ xyz }), pose: identity() }],
        gaps: [{ name: 'gaps between passes', data: { kind: 'field', values, unit: 'mm' }, pose: identity() }],
      },
      evidence: alignmentEvidence(
        r,
        passes.map((p) => p.name),
      ),
    }
  },
})
