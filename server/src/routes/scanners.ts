import express, { Router } from 'express'
import {
  addScanner,
  handRequest,
  imageQuery,
  packHeader,
  padding,
  scannerPatch,
  startCalibration,
  startVerification,
  type ContainerEntry,
} from '@oak-gauge/contract'
import { OakError } from '@oak-gauge/core/base/errors.ts'
import { readBallBarFile, type BallBar } from '@oak-gauge/core/calibrate/ballbar.ts'
import type { GreyImage } from '@oak-gauge/core/calibrate/image.ts'
import { readPlateFile, type Plate } from '@oak-gauge/core/calibrate/plate.ts'
import { openLink } from '@oak-gauge/scanners/client.ts'
import { ArtefactRow, CalibrationRow, NoteRow, ScannerRow, VerificationRow } from '../db/scannermodels.ts'
import { named } from '../download.ts'
import type { Helper } from '../helper/helper.ts'
import { CalibrationRun } from '../scanners/calibrationrun.ts'
import { certificatePdf } from '../scanners/certificate.ts'
import { scannerAddress } from '../scanners/address.ts'
import { MappingRun } from '../markers/mappingrun.ts'
import { idle, warmEnough } from '../scanners/guards.ts'
import type { ScannerKeeper } from '../scanners/keeper.ts'
import { artefactSummary, calibrationSummary, scannerDetail, scannerOr404, scannerSummary, verificationSummary } from '../scanners/summary.ts'
import { putIntoUse } from '../scanners/use.ts'
import { VerificationRun } from '../scanners/verificationrun.ts'
import { actOnMapping } from './markers.ts'

export function scannerRoutes(keeper: ScannerKeeper, helper: Helper): Router {
  const r = Router()

  r.get('/scanners', async (_req, res) => {
    const rows = await ScannerRow.findAll({ order: [['createdAt', 'ASC']] })
    res.json(await Promise.all(rows.map((s) => scannerSummary(s, keeper))))
  })
  /** A scanner is added by its address: it says itself what it is. */
  r.post('/scanners', async (req, res) => {
    const address = scannerAddress(addScanner.parse(req.body).address)
    const link = await openLink(address, {})
    const { name, model, serial, spec } = link.hello
    link.close()
    if (await ScannerRow.findOne({ where: { serial } }))
      throw new OakError('known', `${name}, serial ${serial}, is on the shelf already.`, { remedy: 'Switch it on there.' })
    const row = await ScannerRow.create({ name, model, serial, spec, address })
    await keeper.setOn(row.id, true)
    res.status(201).json(await scannerSummary(await scannerOr404(row.id), keeper))
  })
  r.get('/scanners/:id', async (req, res) => {
    res.json(await scannerDetail(await scannerOr404(req.params.id), keeper))
  })
  r.patch('/scanners/:id', async (req, res) => {
    const row = await scannerOr404(req.params.id)
    const { on, exposure } = scannerPatch.parse(req.body)
    if (on !== undefined) await keeper.setOn(row.id, on)
    if (exposure !== undefined) await keeper.link(row.id).order({ type: 'set', exposure })
    if (exposure !== undefined) keeper.exposed(row.id, exposure)
    res.json(await scannerSummary(await scannerOr404(row.id), keeper))
  })
  /** Stand-ins only: what happens to scanners. */
  r.post('/scanners/:id/drop', async (req, res) => {
    const row = await scannerOr404(req.params.id)
    await keeper.link(row.id).order({ type: 'drop' })
    res.status(202).json({})
  })

  r.post('/scanners/:id/calibrations', async (req, res) => {
    const row = await scannerOr404(req.params.id)
    const body = startCalibration.parse(req.body)
    idle(keeper, row.id)
    const plate = await certificate<Plate>(body.plate, 'plate')
    const onBench = body.onBench ? await certificate<Plate>(body.onBench, 'plate') : plate
    if (body.way === 'turntable' && !row.spec.turntable) throw new OakError('no-turntable', `${row.name} has no turntable.`, { remedy: 'Calibrate by hand.' })
    if (body.way !== 'files') warmEnough(keeper, row, body.cold)
    if (body.way === 'script' && !keeper.link(row.id).hello.standIn)
      throw new OakError('no-hand', 'Only a stand-in can be moved by a script.', { remedy: 'Calibrate by hand.' })
    const run = await CalibrationRun.start(keeper, row, { way: body.way, plate, onBench, cold: body.cold, targets: body.targets })
    keeper.changed(row.id)
    res.status(202).json(run.state())
  })
  r.post('/scanners/:id/verifications', async (req, res) => {
    const row = await scannerOr404(req.params.id)
    const body = startVerification.parse(req.body)
    idle(keeper, row.id)
    warmEnough(keeper, row, body.cold)
    const run = await VerificationRun.start(keeper, row, { bar: await certificate<BallBar>(body.bar, 'ball-bar'), cold: body.cold })
    res.status(202).json(run.state())
  })
  r.get('/scanners/:id/run', async (req, res) => {
    const { run } = keeper.of((await scannerOr404(req.params.id)).id)
    res.json(run instanceof CalibrationRun || run instanceof VerificationRun || run instanceof MappingRun ? run.state() : null)
  })
  r.post('/scanners/:id/run/:what', async (req, res) => {
    const { run } = keeper.of((await scannerOr404(req.params.id)).id)
    const { what } = req.params
    if (run instanceof MappingRun) await actOnMapping(run, what, req.body)
    else if (run instanceof CalibrationRun) {
      if (what === 'hand') await run.move(handRequest.parse(req.body))
      else if (what === 'skip') await run.skip()
      else if (what === 'solve') await run.solve()
      else if (what === 'on') await run.goOn()
      else if (what === 'cancel') await run.cancel()
      else throw new OakError('not-found', `A calibration knows no “${what}”.`)
    } else if (run instanceof VerificationRun) {
      if (what === 'take') await run.take()
      else if (what === 'take-all') void run.takeAll()
      else if (what === 'cancel') await run.cancel()
      else throw new OakError('not-found', `A verification knows no “${what}”.`)
    } else throw new OakError('not-found', 'Nothing is going on with this scanner.', { remedy: 'Begin a calibration or a verification.' })
    res.status(202).json(run.state())
  })
  /** The newest pair of images with what was found in them, as one container of arrays; 204 when none newer than ?after= came within 5 s. */
  r.get('/scanners/:id/live', async (req, res) => {
    const { run } = keeper.of((await scannerOr404(req.params.id)).id)
    const view = run instanceof CalibrationRun ? await run.live(Number(req.query['after'] ?? 0) || 0) : undefined
    if (!view) return void res.status(204).end()
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
  r.put('/scanners/:id/images', express.raw({ type: () => true, limit: '64mb' }), async (req, res) => {
    const { run } = keeper.of((await scannerOr404(req.params.id)).id)
    const { name, side, pair } = imageQuery.parse(req.query)
    if (!(run instanceof CalibrationRun) || run.over()) throw new OakError('no-run', 'No calibration from files is open.', { remedy: 'Begin one first.' })
    const image = await helper.run({ task: 'decode', bytes: req.body as Buffer, name })
    const key = `${req.params.id} ${side === 'left' ? 'right' : 'left'}`
    const other = halves.get(key)
    if (other?.pair !== pair) halves.set(`${req.params.id} ${side}`, { pair, name, image })
    else {
      halves.delete(key)
      await run.given(side === 'left' ? image : other.image, side === 'left' ? other.image : image)
    }
    res.json(run.state())
  })

  r.post('/scanners/:id/use/:calibration', async (req, res) => {
    const row = await scannerOr404(req.params.id)
    await putIntoUse(keeper, row, req.params.calibration)
    res.json(await scannerDetail(await scannerOr404(row.id), keeper))
  })
  r.get('/calibrations/:id', async (req, res) => {
    const c = await CalibrationRow.findOne({ where: { id: req.params.id, state: 'done' }, attributes: { exclude: ['observations'] } })
    if (!c) throw new OakError('not-found', 'There is no such calibration.')
    const p = c.previousId ? await CalibrationRow.findByPk(c.previousId, { attributes: ['id', 'at', 'result'] }) : null
    res.json({
      ...calibrationSummary(c),
      scanner: c.scannerId,
      result: c.result,
      judgement: c.judgement,
      previous: p?.result ? { id: p.id, at: p.at.toISOString(), result: p.result } : null,
    })
  })
  /** Everything a calibration was computed from, for whoever wants to compute it again. */
  r.get('/calibrations/:id/file', async (req, res) => {
    const c = await CalibrationRow.findOne({ where: { id: req.params.id, state: 'done' } })
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
  r.get('/verifications/:id', async (req, res) => {
    const v = await verificationOr404(req.params.id)
    res.json({ ...verificationSummary(v), scanner: v.scannerId, readings: v.readings })
  })
  r.get('/verifications/:id/certificate.pdf', async (req, res) => {
    const v = await verificationOr404(req.params.id)
    const scanner = await scannerOr404(v.scannerId)
    const c = v.calibrationId ? await CalibrationRow.findByPk(v.calibrationId, { attributes: { exclude: ['observations'] } }) : null
    res.setHeader('Content-Type', 'application/pdf')
    named(res, `${scanner.name} verification ${v.at.toISOString().slice(0, 10)}`, 'pdf', 'inline')
    certificatePdf(scanner, c, v).pipe(res)
  })

  r.get('/artefacts', async (_req, res) => {
    res.json((await ArtefactRow.findAll({ order: [['createdAt', 'ASC']] })).map(artefactSummary))
  })
  /** The body is a certificate file, of a plate or a ball bar. */
  r.put('/artefacts', express.text({ type: () => true, limit: '4mb' }), async (req, res) => {
    const text = typeof req.body === 'string' ? req.body : ''
    const name = typeof req.query['name'] === 'string' ? req.query['name'] : 'certificate'
    const bar = /"format"\s*:\s*"oak-gauge ball bar"/.test(text)
    const read = bar ? readBallBarFile(text, name) : readPlateFile(text, name)
    const row = await ArtefactRow.create({ kind: bar ? 'ball-bar' : 'plate', certificate: read })
    res.status(201).json(artefactSummary(row))
  })
  r.get('/artefacts/:id/file', async (req, res) => {
    const a = await ArtefactRow.findByPk(req.params.id)
    if (!a) throw new OakError('not-found', 'There is no such artefact.')
    named(res, a.certificate.id, 'json')
    res.json(a.certificate)
  })
  r.get('/scanners/:id/notes', async (req, res) => {
    res.json(await NoteRow.findAll({ where: { scannerId: req.params.id }, order: [['at', 'DESC']] }))
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
