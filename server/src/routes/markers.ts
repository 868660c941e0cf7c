import { Router } from 'express'
import { pipeline } from 'node:stream/promises'
import { API, handRequest, nudgeRequest } from '@oak-gauge/contract'
import { OakError } from '@oak-gauge/core/base/errors.ts'
import { turned } from '@oak-gauge/core/markers/levelled.ts'
import type { Markers } from '@oak-gauge/core/markers/markers.ts'
import type { Item } from '@oak-gauge/core/operations/operation.ts'
import { serve } from '../api/serve.ts'
import type { Database } from '../db/connect.ts'
import { ItemRow, SetupRow } from '../db/models.ts'
import { NoteRow } from '../db/scannermodels.ts'
import { named } from '../download.ts'
import { loadLedger } from '../ledger/state.ts'
import { MappingRun } from '../markers/mappingrun.ts'
import { inUse, knownMap, load, partOf, planOf, scaleUncertainty, stageOf } from '../markers/ofjob.ts'
import { placementSheet } from '../markers/sheet.ts'
import { setStage } from '../markers/stage.ts'
import type { Queue } from '../queue.ts'
import { idle, warmEnough } from '../scanners/guards.ts'
import type { ScannerKeeper } from '../scanners/keeper.ts'
import { scannerOr404 } from '../scanners/summary.ts'

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
  } else if (what !== 'press') throw new OakError('not-found', `A mapping knows no “${what}”.`)
}
