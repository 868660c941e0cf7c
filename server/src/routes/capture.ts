import { Router, type Response } from 'express'
import { againRequest, API, floorRequest, handRequest, leaveOut, lightRequest, placeAnewRequest, shotsRequest } from '@oak-gauge/contract'
import { OakError } from '@oak-gauge/core/base/errors.ts'
import { bestHold } from '@oak-gauge/core/capture/holder.ts'
import { turned } from '@oak-gauge/core/markers/levelled.ts'
import type { Markers } from '@oak-gauge/core/markers/markers.ts'
import type { Item } from '@oak-gauge/core/operations/operation.ts'
import { lineNoise } from '@oak-gauge/core/scanner/linenoise.ts'
import { boundingBox } from '@oak-gauge/core/shape/points.ts'
import { serve } from '../api/serve.ts'
import { NO_FLOOR } from '../capture/choices.ts'
import { CaptureRun } from '../capture/capturerun.ts'
import type { Database } from '../db/connect.ts'
import { SetupRow } from '../db/models.ts'
import { NoteRow } from '../db/scannermodels.ts'
import { loadLedger, type Ledger } from '../ledger/state.ts'
import { inUse, load, stageOf } from '../markers/ofjob.ts'
import { MEASURED_TRIANGLES, setStage, type Stage } from '../markers/stage.ts'
import type { Queue } from '../queue.ts'
import { idle, warmEnough } from '../scanners/guards.ts'
import type { ScannerKeeper } from '../scanners/keeper.ts'
import { scannerOr404 } from '../scanners/summary.ts'

export function captureRoutes(db: Database, queue: Queue, keeper: ScannerKeeper): Router {
  const r = Router()

  serve(r, API.startCapture, async ({ params, body }) => {
    const ledger = await loadLedger(params.id)
    const setup = await SetupRow.findOne({ where: { id: body.setup, jobId: params.id } })
    if (!setup) throw new OakError('not-found', 'There is no such setup.')
    const scanner = await scannerOr404(body.scanner)
    const { spec } = scanner
    idle(keeper, scanner.id)
    warmEnough(keeper, scanner, body.cold)
    const link = keeper.link(scanner.id)
    const map = await mapOf(db, ledger, setup.id)
    const stereo = (await inUse(scanner))?.stereo ?? link.hello.calibration.stereo
    const lines = spec.kind === 'arm-line' || keeper.of(scanner.id).state?.pattern === 'line'
    const by = body.by === 'auto' ? bestHold(map !== null, spec.own !== undefined, lines) : body.by
    if (by === 'own' && !spec.own)
      throw new OakError('no-own-pose', `${scanner.name} does not say where it is.`, { remedy: 'Let shape or markers hold the frames.' })
    if ((by === 'markers' || (by === 'both' && !spec.own)) && !map)
      throw new OakError('no-map', `There is no map of the markers of ${setup.name}.`, { remedy: 'Map the markers first, or let shape hold the frames.' })
    if (body.ordered && !lines)
      throw new OakError('not-lines', `${scanner.name} does not measure single lines now.`, { remedy: 'Leave ordered data out, or choose a single line.' })
    const run = await CaptureRun.start(keeper, scanner, db, queue, {
      job: params.id,
      setup: setup.id,
      name: body.name ?? nextName(ledger, setup.name),
      by,
      spacing: body.spacing,
      near: null,
      far: null,
      ...NO_FLOOR,
      noise: lineNoise(stereo, spec.range.ideal),
      lines,
      ordered: body.ordered,
      angles: body.angles,
      map,
      stereo,
      calibration: scanner.calibrationId ?? '',
      stage: link.hello.standIn ? await stageBefore(db, ledger, setup.place, body) : null,
    })
    if (body.cold) await NoteRow.create({ scannerId: scanner.id, text: `A pass was recorded although the scanner was not warm (${ledger.job.title}).` })
    if (body.light) await run.lit(body.light)
    keeper.changed(scanner.id)
    return run.state()
  })

  serve(r, API.capture, async ({ params, query, res }) => {
    const { run } = keeper.of((await scannerOr404(params.id)).id)
    if (!(run instanceof CaptureRun)) return
    res.setHeader('Cache-Control', 'no-store')
    return run.live(query.after)
  })
  serve(r, API.captured, async ({ params, query, res }) => {
    const { run } = keeper.of((await scannerOr404(params.id)).id)
    const cubes = run instanceof CaptureRun ? run.model.since(query.version, query.from) : undefined
    if (!cubes) return
    sendBytes(res, cubes)
  })
  serve(r, API.timeline, async ({ params, query, res }) => {
    const { run } = keeper.of((await scannerOr404(params.id)).id)
    if (!(run instanceof CaptureRun)) return
    sendBytes(res, run.kept.line.since(query.from))
  })
  return r
}

/** What the scanner run's route passes on. */
export async function actOnCapture(run: CaptureRun, what: string, body: unknown): Promise<void> {
  if (what === 'record') await run.go()
  else if (what === 'hold') await run.hold()
  else if (what === 'end') await run.end()
  else if (what === 'cancel') await run.cancel()
  else if (what === 'shots') await run.shots(shotsRequest.parse(body).angles)
  else if (what === 'again') await run.again(againRequest.parse(body).until)
  else if (what === 'path') run.path()
  else if (what === 'back') run.back()
  else if (what === 'light') await run.lit(lightRequest.parse(body))
  else if (what === 'place-anew') await run.placeAnew(placeAnewRequest.parse(body))
  else if (what === 'floor') await run.onFloor(floorRequest.parse(body))
  else if (what === 'leave-out') await run.leaveOut(leaveOut.parse(body).spans)
  else if (what === 'hand') await run.move(handRequest.parse(body))
  else if (what !== 'press') throw new OakError('not-found', `A recording knows no “${what}”.`)
}

function sendBytes(res: Response, a: Float32Array): void {
  res.setHeader('Content-Type', 'application/octet-stream')
  res.setHeader('Cache-Control', 'no-store')
  res.end(Buffer.from(a.buffer, a.byteOffset, a.byteLength))
}

/** The newest map of the markers of a setup, in the axes of the job: what is tracked by it lies where its pass will. */
async function mapOf(db: Database, l: Ledger, setup: string): Promise<{ markers: Markers; slot: string } | null> {
  const slot = [...l.slots.values()].findLast((s) => s.role === 'marker-map' && s.setupId === setup && l.tray.has(s.id))
  const row = slot && l.tray.get(slot.id)
  if (!row) return null
  const item = (await load(db, row)) as Item<Markers>
  return { markers: turned(item.data, item.pose), slot: slot.id }
}

function nextName(l: Ledger, setup: string): string {
  const n = [...l.tray.values()].filter((i) => l.slots.get(i.slotId ?? '')?.role === 'pass').length
  return `Pass ${n + 1}, ${setup}`
}

async function stageBefore(db: Database, l: Ledger, place: number, before: { table: boolean; printed: boolean }): Promise<Stage> {
  const stage = await setStage(await stageOf(db, l, place), MEASURED_TRIANGLES)
  if (!stage.solid)
    throw new OakError('no-part', 'A stand-in needs a part before it.', { remedy: 'Bring in the nominal of the part: it is what the stand-in measures.' })
  // it is led round the part, not round the markers beside it
  const box = Array.from(boundingBox(Float32Array.from(stage.solid.vertices)))
  return { ...stage, material: l.job.surface, box, table: before.table, printed: before.printed }
}
