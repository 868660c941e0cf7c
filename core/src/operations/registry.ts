import { OakError } from '../base/errors.ts'
import { checkCancelled, type RunContext } from '../base/run.ts'
import { adjust } from './adjust.ts'
import { fineAlignment } from './align-fine.ts'
import { alignPairs } from './align-pairs.ts'
import { alignShape } from './align-shape.ts'
import { bestFitOperation } from './best-fit.ts'
import { closeGapsOperation } from './close-gaps.ts'
import { deviation } from './deviation.ts'
import { facts } from './facts.ts'
import { flag } from './flag.ts'
import { importFile } from './import.ts'
import { importMarkers } from './import-markers.ts'
import { islands } from './islands.ts'
import { joinMarkers } from './join-markers.ts'
import { lasso } from './lasso.ts'
import { mapMarkers } from './map-markers.ts'
import { merge } from './merge.ts'
import { normals } from './normals.ts'
import type { Evidence, Inputs, Operation, Outputs } from './operation.ts'
import { planMarkersOperation } from './plan-markers.ts'
import { inspectRecordingOperation } from './inspect-recording.ts'
import { rehearseRecordingOperation } from './rehearse-recording.ts'
import { reduce } from './reduce.ts'
import { sample } from './sample.ts'
import { solveRecordingOperation } from './solve-recording.ts'
import { strays } from './strays.ts'
import { thin } from './thin.ts'
import { trimPlane } from './trim-plane.ts'

/** Every operation, in the order of the work. Adding a capability means adding its file and its line here. */
export const OPERATIONS: readonly Operation[] = [
  importFile,
  planMarkersOperation,
  mapMarkers,
  importMarkers,
  joinMarkers,
  rehearseRecordingOperation,
  inspectRecordingOperation,
  solveRecordingOperation,
  thin,
  normals,
  trimPlane,
  strays,
  islands,
  lasso,
  alignPairs,
  alignShape,
  fineAlignment,
  adjust,
  merge,
  closeGapsOperation,
  reduce,
  bestFitOperation,
  deviation,
  flag,
  sample,
  facts,
]

const byName = new Map(OPERATIONS.map((o) => [o.name, o]))

export function operation(name: string): Operation {
  const o = byName.get(name)
  if (!o) throw new OakError('unknown-operation', `There is no operation “${name}”.`, { remedy: `Known are: ${[...byName.keys()].join(', ')}.` })
  return o
}

/** Checks settings and fills in defaults. Throws OakError 'bad-setting' naming each wrong one. */
export function checkedParams(o: Operation, params: unknown): Record<string, unknown> {
  const parsed = o.params.safeParse(params ?? {})
  if (parsed.success) return parsed.data as Record<string, unknown>
  const [first] = parsed.error.issues
  throw new OakError('bad-setting', parsed.error.issues.map((i) => `${i.path.join('.') || 'settings'}: ${i.message}`).join('; '), {
    where: `${o.name}, ${first?.path.join('.') ?? ''}`,
    remedy: 'Correct the setting.',
  })
}

/** Checks settings and inputs, and runs. */
export async function runOperation(name: string, inputs: Inputs, params: unknown, ctx: RunContext): Promise<{ outputs: Outputs; evidence: Evidence }> {
  const o = operation(name)
  const settings = checkedParams(o, params)
  for (const [port, spec] of Object.entries(o.inputs)) {
    const given = inputs[port] ?? []
    if (given.length === 0 && !spec.optional)
      throw new OakError('missing-input', `${o.title} needs ${spec.about}.`, { where: `${o.name}, ${port}`, remedy: 'Bring in what is missing.' })
    if (given.length > 1 && !spec.many) throw new OakError('too-many-inputs', `${o.title} takes one item for ${spec.about}.`, { where: `${o.name}, ${port}` })
    for (const item of given) {
      const kind = 'data' in item ? item.data.kind : item.kind
      if (!spec.kinds.includes(kind))
        throw new OakError('wrong-input', `${o.title} takes ${spec.kinds.join(' or ')} for ${spec.about}, not ${kind}.`, { where: `${o.name}, ${port}` })
    }
  }
  checkCancelled(ctx)
  return o.run(inputs, settings, ctx)
}
