import { Router } from 'express'
import { headRequest, jobFields, jobPatch, rerunRequest, setupFields, slotPatch, stepRequest } from '@oak-gauge/contract'
import { OakError } from '@oak-gauge/core/base/errors.ts'
import { ItemRow, JobRow, SetupRow, SlotRow, StepRow } from '../db/models.ts'
import { named } from '../download.ts'
import { benchCards } from '../ledger/bench.ts'
import type { Queue } from '../queue.ts'
import { cancelStep, deleteJob, dismissStep, enqueueStep, moveHead, rerunStep } from '../ledger/enqueue.ts'
import { recipeOf } from '../ledger/recipe.ts'
import { jobOr404, jobState, loadLedger, toStep } from '../ledger/state.ts'

export function jobRoutes(queue: Queue): Router {
  const r = Router()
  const cards = benchCards()
  const changed = (job: string) => queue.bus.emit({ type: 'changed', job })

  r.get('/jobs', async (_req, res) => {
    res.json(await cards())
  })
  r.post('/jobs', async (req, res) => {
    const job = await JobRow.create(jobFields.parse(req.body))
    await SetupRow.create({ jobId: job.id, name: 'Setup 1', place: 0 })
    await changed(job.id)
    res.status(201).json(await jobState(job.id))
  })
  r.get('/jobs/:id', async (req, res) => {
    res.json(await jobState(req.params.id))
  })
  r.patch('/jobs/:id', async (req, res) => {
    const job = await jobOr404(req.params.id)
    job.set(jobPatch.parse(req.body) as Partial<JobRow>)
    await job.save()
    await changed(job.id)
    res.json(await jobState(job.id))
  })
  r.delete('/jobs/:id', async (req, res) => {
    await deleteJob(queue, req.params.id)
    res.status(204).end()
  })
  r.post('/jobs/:id/setups', async (req, res) => {
    const job = await jobOr404(req.params.id)
    const place = await SetupRow.count({ where: { jobId: job.id } })
    await SetupRow.create({ jobId: job.id, place, ...setupFields.parse(req.body) })
    await changed(job.id)
    res.status(201).json(await jobState(job.id))
  })
  r.patch('/jobs/:id/setups/:setup', async (req, res) => {
    const setup = await SetupRow.findOne({ where: { id: req.params.setup, jobId: req.params.id } })
    if (!setup) throw new OakError('not-found', 'There is no such setup.')
    await setup.update(setupFields.parse(req.body))
    await changed(req.params.id)
    res.json(await jobState(req.params.id))
  })
  r.patch('/jobs/:id/slots/:slot', async (req, res) => {
    const slot = await SlotRow.findOne({ where: { id: req.params.slot, jobId: req.params.id } })
    if (!slot) throw new OakError('not-found', 'There is no such item.')
    await slot.update({ setupId: slotPatch.parse(req.body).setup })
    await changed(req.params.id)
    res.json(await jobState(req.params.id))
  })
  r.post('/jobs/:id/steps', async (req, res) => {
    res.status(202).json(toStep(await enqueueStep(queue, req.params.id, stepRequest.parse(req.body))))
  })
  r.post('/jobs/:id/steps/:step/rerun', async (req, res) => {
    const { params, ...asked } = rerunRequest.parse(req.body)
    const steps = await rerunStep(queue, req.params.id, req.params.step, params, asked)
    res.status(202).json(steps.map(toStep))
  })
  r.post('/jobs/:id/steps/:step/cancel', async (req, res) => {
    await cancelStep(queue, req.params.id, req.params.step)
    res.status(202).json({})
  })
  /** What a step made, for previews above all: those are not on the tray. */
  r.get('/jobs/:id/steps/:step/items', async (req, res) => {
    const items = await ItemRow.findAll({ where: { jobId: req.params.id, stepId: req.params.step }, order: [['place', 'ASC']] })
    res.json(items.map((i) => ({ id: i.id, port: i.port, place: i.place })))
  })
  /** Of what a step made. Never changes. */
  r.get('/jobs/:id/steps/:step/picture', async (req, res) => {
    const step = await StepRow.findOne({ where: { id: req.params.step, jobId: req.params.id }, attributes: ['picture'] })
    if (!step?.picture) throw new OakError('not-found', 'There is no such picture.')
    res.setHeader('Cache-Control', 'private, max-age=31536000, immutable')
    res.type('png').send(Buffer.from(step.picture, 'base64'))
  })
  r.delete('/jobs/:id/steps/:step', async (req, res) => {
    await dismissStep(queue, req.params.id, req.params.step)
    res.status(204).end()
  })
  r.post('/jobs/:id/head', async (req, res) => {
    const { step, after } = headRequest.parse(req.body)
    await moveHead(queue, req.params.id, step, after)
    res.json(await jobState(req.params.id))
  })
  r.get('/jobs/:id/recipe', async (req, res) => {
    const ledger = await loadLedger(req.params.id)
    named(res, `${ledger.job.title} recipe`, 'json')
    res.json(await recipeOf(ledger))
  })
  return r
}
