import { Router } from 'express'
import { pipeline } from 'node:stream/promises'
import { API, handRequest, nudgeRequest } from '@oak-gauge/contract'
import { OakError } from '@oak-gauge/core/base/errors.ts'
import type { CalibrationResult } from '@oak-gauge/core/calibrate/calibration.ts'
import type { Markers } from '@oak-gauge/core/markers/markers.ts'
import { turned } from '@oak-gauge/core/markers/levelled.ts'
import { transformMesh, type Mesh } from '@oak-gauge/core/shape/mesh.ts'
import type { Item } from '@oak-gauge/core/operations/operation.ts'
import { serve } from '../api/serve.ts'
import { loadArray } from '../blobs.ts'
import type { Database } from '../db/connect.ts'
import { ItemRow, SetupRow } from '../db/models.ts'
import { CalibrationRow, NoteRow, VerificationRow, type ScannerRow } from '../db/scannermodels.ts'
import { named } from '../download.ts'
import type { Queue } from '../queue.ts'
import { loadLedger, type Ledger } from '../ledger/state.ts'
import { MappingRun } from '../markers/mappingrun.ts'
import { placementSheet } from '../markers/sheet.ts'
import { setStage, stageInput, type StageInput } from '../markers/stage.ts'
import { idle, warmEnough } from '../scanners/guards.ts'
import type { ScannerKeeper } from '../scanners/keeper.ts'
import { scannerOr404 } from '../scanners/summary.ts'
import { unpackItem, type Arrays } from '../worker/pack.ts'

export function mappingRoutes(db: Database, queue: Queue, keeper: ScannerKeeper): Router {
  const r = Router()

  serve(r, API.startMapping, async ({ params, body }) => {
    const ledger = await loadLedger(params.id)
    const setup = await SetupRow.findOne({ where: { id: body.setup, jobId: params.id } })
    if (!setup) throw new OakError('not-found', 'There is no such setup.')
    const scanner = await scannerOr404(body.scanner)
    if (scanner.spec.arm)
      throw new OakError('no-markers', `${scanner.name} knows its place from its arm and looks at no markers.`, {
        remedy: 'Choose a scanner that tracks by markers.',
      })
    idle(keeper, scanner.id)
    warmEnough(keeper, scanner, body.cold)
    const link = keeper.link(scanner.id)
    const known = body.known ? await knownMap(db, ledger, body.known, setup.id) : null
    const run = await MappingRun.start(keeper, scanner, db, queue, {
      job: params.id,
      setup: setup.id,
      setupName: setup.name,
      target: body.target,
      known,
      stereo: (await inUse(scanner))?.stereo ?? link.hello.calibration.stereo,
      calibration: scanner.calibrationId ?? '',
      scale: await scaleUncertainty(scanner),
      plan: await planOf(db, ledger),
      stage: link.hello.standIn ? await setStage(await stageOf(db, ledger, setup.place)) : null,
    })
    if (body.cold) await NoteRow.create({ scannerId: scanner.id, text: `Markers were mapped although the scanner was not warm (${ledger.job.title}).` })
    keeper.changed(scanner.id)
    return run.state()
  })

  serve(r, API.mapping, async ({ params, query, res }) => {
    const { run } = keeper.of((await scannerOr404(params.id)).id)
    if (!(run instanceof MappingRun)) return
    res.setHeader('Cache-Control', 'no-store')
    return run.live(query.after)
  })
  return r
}

/** What needs no scanner. */
export function placementRoutes(db: Database): Router {
  const r = Router()
  // faces at 1:1 where they fit on the paper
  serve(r, API.placement, async ({ params, res }) => {
    const row = await ItemRow.findByPk(params.id)
    if (row?.kind !== 'markers') throw new OakError('not-found', 'There is no such plan.')
    const ledger = await loadLedger(row.jobId)
    const item = (await load(db, row)) as Item<Markers>
    const part = await partOf(db, ledger)
    res.setHeader('Content-Type', 'application/pdf')
    named(res, `${ledger.job.title} markers`, 'pdf', 'inline')
    await pipeline(placementSheet(ledger.job, turned(item.data, item.pose), part), res)
  })
  return r
}

/** What the scanner run's route passes on. */
export async function actOnMapping(run: MappingRun, what: string, body: unknown): Promise<void> {
  if (what === 'hold') await run.hold()
  else if (what === 'on') await run.goOn()
  else if (what === 'end') await run.end()
  else if (what === 'cancel') await run.cancel()
  else if (what === 'path') run.path()
  else if (what === 'hand') await run.move(handRequest.parse(body))
  else if (what === 'nudge') {
    const { marker, distance } = nudgeRequest.parse(body)
    await run.nudge(marker, distance)
  } else throw new OakError('not-found', `A mapping knows no “${what}”.`)
}

async function load(db: Database, row: ItemRow): Promise<Item> {
  const arrays: Arrays = {}
  for (const [name, ref] of Object.entries(row.arrays)) arrays[name] = await loadArray(db.pool, ref)
  return unpackItem(row, arrays)
}

/** A map to go on from, in its own axes. The new one takes its place when it is of the same setup. */
async function knownMap(db: Database, l: Ledger, slot: string, setup: string): Promise<{ markers: Markers; slot: string; replaces: boolean }> {
  const row = l.tray.get(slot)
  if (row?.kind !== 'markers') throw new OakError('not-on-tray', 'That map is not on the tray any more.', { remedy: 'Choose again.' })
  const item = (await load(db, row)) as Item<Markers>
  return { markers: item.data, slot, replaces: l.slots.get(slot)?.setupId === setup }
}

async function inUse(scanner: ScannerRow): Promise<CalibrationResult | null> {
  const row = scanner.calibrationId ? await CalibrationRow.findByPk(scanner.calibrationId, { attributes: ['result'] }) : null
  return row?.result ?? null
}

/**
 * Relative standard uncertainty of lengths: of the base line and the focal length by the calibration, and what the ball bar showed, as a
 * rectangular distribution (GUM, JCGM 100, 4.3.7).
 */
async function scaleUncertainty(scanner: ScannerRow): Promise<number> {
  const c = await inUse(scanner)
  if (!c) return 0
  const own = Math.hypot(c.uncertainty.baseline / c.baseline, (c.uncertainty.left['fx'] ?? 0) / c.stereo.left.fx)
  const v = await VerificationRow.findOne({ where: { scannerId: scanner.id, calibrationId: scanner.calibrationId }, order: [['at', 'DESC']] })
  const row = v?.result.rows.find((x) => x.name === 'distance')
  return row && v ? Math.hypot(own, Math.abs(row.value) / v.bar.distance / Math.sqrt(3)) : own
}

/** The part of a job as the plan was made on it, in job coordinates. */
async function partOf(db: Database, l: Ledger): Promise<Mesh | null> {
  const step = l.path.findLast((s) => s.operation === 'plan-markers')
  const slot = step?.inputs['shape']?.[0] ?? step?.slots['shape']?.[0]
  const row = slot ? l.tray.get(slot) : undefined
  if (row?.kind !== 'mesh') return null
  const item = (await load(db, row)) as Item<Mesh>
  return transformMesh(item.data, item.pose)
}

async function planOf(db: Database, l: Ledger): Promise<{ markers: Markers; slot: string } | null> {
  const row = [...l.tray.values()].findLast((i) => l.slots.get(i.slotId ?? '')?.role === 'marker-plan')
  if (!row) return null
  const item = (await load(db, row)) as Item<Markers>
  return { markers: turned(item.data, item.pose), slot: row.slotId ?? '' }
}

async function stageOf(db: Database, l: Ledger, place: number): Promise<StageInput> {
  const step = l.path.findLast((s) => s.operation === 'plan-markers')
  return stageInput(step?.params ?? {}, (await planOf(db, l))?.markers ?? null, await partOf(db, l), place)
}
