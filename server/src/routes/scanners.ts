import express, { Router } from 'express'
import { pipeline } from 'node:stream/promises'
import { API, handRequest, packHeader, padding, type Api, type ContainerEntry, type RunState } from '@oak-gauge/contract'
import { OakError } from '@oak-gauge/core/base/errors.ts'
import { readBallBarFile, type BallBar } from '@oak-gauge/core/calibrate/ballbar.ts'
import type { GreyImage } from '@oak-gauge/core/calibrate/image.ts'
import { readPlateFile, type Plate } from '@oak-gauge/core/calibrate/plate.ts'
import { pageOf, serve, type Asked } from '../api/serve.ts'
import { openLink } from '@oak-gauge/scanners/client.ts'
import { ArtefactRow, CalibrationRow, NoteRow, ScannerRow, VerificationRow } from '../db/scannermodels.ts'
import { named } from '../download.ts'
import type { Helper } from '../helper/helper.ts'
import { CaptureRun } from '../capture/capturerun.ts'
import { CalibrationRun } from '../scanners/calibrationrun.ts'
import { certificatePdf } from '../scanners/certificate.ts'
import { scannerAddress } from '../scanners/address.ts'
import { MappingRun } from '../markers/mappingrun.ts'
import { idle, warmEnough } from '../scanners/guards.ts'
import type { ScannerKeeper } from '../scanners/keeper.ts'
import { artefactSummary, calibrationSummary, scannerDetail, scannerOr404, scannerSummary, verificationSummary } from '../scanners/summary.ts'
import { putIntoUse } from '../scanners/use.ts'
import { VerificationRun } from '../scanners/verificationrun.ts'
import { actOnCapture } from './capture.ts'
import { actOnMapping } from './markers.ts'

export function scannerRoutes(keeper: ScannerKeeper, helper: Helper): Router {
  const r = Router()

  serve(r, API.scanners, async ({ query }) => {
    const { items, next } = pageOf(await ScannerRow.findAll({ order: [['createdAt', 'ASC']] }), query)
    return { items: await Promise.all(items.map((s) => scannerSummary(s, keeper))), next }
  })
  serve(r, API.addScanner, async ({ body }) => {
    const address = scannerAddress(body.address)
    const link = await openLink(address, {})
    const { name, model, serial, spec } = link.hello
    link.close()
    if (await ScannerRow.findOne({ where: { serial } }))
      throw new OakError('known', `${name}, serial ${serial}, is on the shelf already.`, { remedy: 'Switch it on there.' })
    const row = await ScannerRow.create({ name, model, serial, spec, address })
    await keeper.setOn(row.id, true)
    return scannerSummary(await scannerOr404(row.id), keeper)
  })
  serve(r, API.scanner, async ({ params }) => scannerDetail(await scannerOr404(params.id), keeper))
  serve(r, API.patchScanner, async ({ params, body: { on, exposure } }) => {
    const row = await scannerOr404(params.id)
    if (on !== undefined) await keeper.setOn(row.id, on)
    if (exposure !== undefined) await keeper.link(row.id).order({ type: 'set', exposure })
    if (exposure !== undefined) keeper.lit(row.id, { exposure })
    return scannerSummary(await scannerOr404(row.id), keeper)
  })
  serve(r, API.dropScanner, async ({ params }) => {
    const row = await scannerOr404(params.id)
    await keeper.link(row.id).order({ type: 'drop' })
    return {}
  })

  serve(r, API.startCalibration, async ({ params, body }) => {
    const row = await scannerOr404(params.id)
    idle(keeper, row.id)
    const plate = await certificate<Plate>(body.plate, 'plate')
    const onBench = body.onBench ? await certificate<Plate>(body.onBench, 'plate') : plate
    if (body.way === 'turntable' && !row.spec.turntable) throw new OakError('no-turntable', `${row.name} has no turntable.`, { remedy: 'Calibrate by hand.' })
    if (body.way !== 'files') warmEnough(keeper, row, body.cold)
    if (body.way === 'script' && !keeper.link(row.id).hello.standIn)
      throw new OakError('no-hand', 'Only a stand-in can be moved by a script.', { remedy: 'Calibrate by hand.' })
    const run = await CalibrationRun.start(keeper, row, { way: body.way, plate, onBench, cold: body.cold, targets: body.targets })
    keeper.changed(row.id)
    return run.state()
  })
  serve(r, API.startVerification, async ({ params, body }) => {
    const row = await scannerOr404(params.id)
    idle(keeper, row.id)
    warmEnough(keeper, row, body.cold)
    const run = await VerificationRun.start(keeper, row, { bar: await certificate<BallBar>(body.bar, 'ball-bar'), cold: body.cold })
    return run.state()
  })
  serve(r, API.run, async ({ params }): Promise<RunState | null> => {
    const { run } = keeper.of((await scannerOr404(params.id)).id)
    return run instanceof CalibrationRun || run instanceof VerificationRun || run instanceof MappingRun || run instanceof CaptureRun ? run.state() : null
  })
  serve(r, API.actOnRun, async ({ params, body }): Promise<RunState> => {
    const { run } = keeper.of((await scannerOr404(params.id)).id)
    const { what } = params
    if (run && what === 'press') await keeper.link(params.id).order({ type: 'press' })
    if (run instanceof MappingRun) await actOnMapping(run, what, body)
    else if (run instanceof CaptureRun) await actOnCapture(run, what, body)
    else if (run instanceof CalibrationRun) {
      if (what === 'hand') await run.move(handRequest.parse(body))
      else if (what === 'skip') await run.skip()
      else if (what === 'solve') await run.solve()
      else if (what === 'on') await run.goOn()
      else if (what === 'cancel') await run.cancel()
      else if (what !== 'press') throw new OakError('not-found', `A calibration knows no “${what}”.`)
    } else if (run instanceof VerificationRun) {
      if (what === 'take') await run.take()
      else if (what === 'take-all') void run.takeAll()
      else if (what === 'cancel') await run.cancel()
      else if (what !== 'press') throw new OakError('not-found', `A verification knows no “${what}”.`)
    } else throw new OakError('not-found', 'Nothing is going on with this scanner.', { remedy: 'Begin a calibration or a verification.' })
    return run.state()
  })
  serve(r, API.live, async ({ params, query, res }) => {
    const { run } = keeper.of((await scannerOr404(params.id)).id)
    const view = run instanceof CalibrationRun ? await run.live(Math.max(0, query.after)) : undefined
    if (!view) return
    const info = new TextEncoder().encode(JSON.stringify({ sequence: view.sequence, state: view.state, sizes: view.sides.map((s) => [s.width, s.height]) }))
    const arrays: [string, Uint8Array | Float32Array][] = [
      ['info', info],
      ...view.sides.flatMap((s, k): [string, Uint8Array | Float32Array][] => [
        [`grey${k}`, s.grey],
        [`dots${k}`, s.dots],
        [`ghost${k}`, s.ghost],
      ]),
    ]
    const entries = arrays.map(([name, a]): ContainerEntry => ({ name, type: a instanceof Uint8Array ? 'u8' : 'f32', length: a.length }))
    const parts = [packHeader(entries)]
    for (const [, a] of arrays) parts.push(new Uint8Array(a.buffer, a.byteOffset, a.byteLength), new Uint8Array(padding(a.byteLength)))
    res.setHeader('Content-Type', 'application/octet-stream')
    res.setHeader('Cache-Control', 'no-store')
    res.end(Buffer.concat(parts))
  })
  /** One image of a recorded pair; when both have come they are measured. */
  const halves = new Map<string, { pair: number; name: string; image: GreyImage }>()
  const bringImage = async ({ params, query: { name, side, pair }, req }: Asked<Api['bringImage']>): Promise<RunState> => {
    const { run } = keeper.of((await scannerOr404(params.id)).id)
    if (!(run instanceof CalibrationRun) || run.over()) throw new OakError('no-run', 'No calibration from files is open.', { remedy: 'Begin one first.' })
    const image = await helper.run({ task: 'decode', bytes: req.body as Buffer, name })
    const key = `${params.id} ${side === 'left' ? 'right' : 'left'}`
    const other = halves.get(key)
    if (other?.pair !== pair) halves.set(`${params.id} ${side}`, { pair, name, image })
    else {
      halves.delete(key)
      await run.given(side === 'left' ? image : other.image, side === 'left' ? other.image : image)
    }
    return run.state()
  }
  serve(r, API.bringImage, bringImage, express.raw({ type: () => true, limit: '64mb' }))

  serve(r, API.putIntoUse, async ({ params }) => {
    const row = await scannerOr404(params.id)
    await putIntoUse(keeper, row, params.calibration)
    return scannerDetail(await scannerOr404(row.id), keeper)
  })
  serve(r, API.calibration, async ({ params }) => {
    const c = await CalibrationRow.findOne({ where: { id: params.id, state: 'done' }, attributes: { exclude: ['observations'] } })
    if (!c?.result || !c.judgement) throw new OakError('not-found', 'There is no such calibration.')
    const p = c.previousId ? await CalibrationRow.findByPk(c.previousId, { attributes: ['id', 'at', 'result'] }) : null
    return {
      ...calibrationSummary(c),
      scanner: c.scannerId,
      result: c.result,
      judgement: c.judgement,
      previous: p?.result ? { id: p.id, at: p.at.toISOString(), result: p.result } : null,
    }
  })
  serve(r, API.calibrationFile, async ({ params, res }) => {
    const c = await CalibrationRow.findOne({ where: { id: params.id, state: 'done' } })
    if (!c) throw new OakError('not-found', 'There is no such calibration.')
    named(res, `calibration ${c.at.toISOString().slice(0, 10)}`, 'json')
    res.json({
      format: 'oak-gauge calibration',
      version: 1,
      ...calibrationSummary(c),
      plate: c.plate,
      observations: c.observations,
      result: c.result,
      judgement: c.judgement,
    })
  })
  serve(r, API.verification, async ({ params }) => {
    const v = await verificationOr404(params.id)
    return { ...verificationSummary(v), scanner: v.scannerId, readings: v.readings }
  })
  serve(r, API.certificate, async ({ params, res }) => {
    const v = await verificationOr404(params.id)
    const scanner = await scannerOr404(v.scannerId)
    const c = v.calibrationId ? await CalibrationRow.findByPk(v.calibrationId, { attributes: { exclude: ['observations'] } }) : null
    res.setHeader('Content-Type', 'application/pdf')
    named(res, `${scanner.name} verification ${v.at.toISOString().slice(0, 10)}`, 'pdf', 'inline')
    await pipeline(certificatePdf(scanner, c, v), res)
  })

  serve(r, API.artefacts, async ({ query }) => {
    const { items, next } = pageOf(await ArtefactRow.findAll({ order: [['createdAt', 'ASC']] }), query)
    return { items: items.map(artefactSummary), next }
  })
  const addArtefact = async ({ query: { name }, req }: Asked<Api['addArtefact']>) => {
    const text = typeof req.body === 'string' ? req.body : ''
    const bar = /"format"\s*:\s*"oak-gauge ball bar"/.test(text)
    const read = bar ? readBallBarFile(text, name) : readPlateFile(text, name)
    const row = await ArtefactRow.create({ kind: bar ? 'ball-bar' : 'plate', certificate: read })
    return artefactSummary(row)
  }
  serve(r, API.addArtefact, addArtefact, express.text({ type: () => true, limit: '4mb' }))
  serve(r, API.artefactFile, async ({ params, res }) => {
    const a = await ArtefactRow.findByPk(params.id)
    if (!a) throw new OakError('not-found', 'There is no such artefact.')
    named(res, a.certificate.id, 'json')
    res.json(a.certificate)
  })
  serve(r, API.notes, async ({ params, query }) => {
    const { items, next } = pageOf(await NoteRow.findAll({ where: { scannerId: params.id }, order: [['at', 'DESC']] }), query)
    return { items: items.map(({ at, text }) => ({ at: at.toISOString(), text })), next }
  })
  return r
}

async function verificationOr404(id: string): Promise<VerificationRow> {
  const v = await VerificationRow.findByPk(id)
  if (!v) throw new OakError('not-found', 'There is no such verification.')
  return v
}

async function certificate<T extends Plate | BallBar>(id: string, kind: ArtefactRow['kind']): Promise<T> {
  const a = await ArtefactRow.findOne({ where: { id, kind } })
  if (!a) throw new OakError('not-found', kind === 'plate' ? 'There is no such plate.' : 'There is no such ball bar.', { remedy: 'Choose one from the list.' })
  return a.certificate as T
}
