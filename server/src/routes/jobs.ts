import { Router } from 'express'
import { Op } from 'sequelize'
import {
  headRequest,
  jobFields,
  jobPatch,
  rerunRequest,
  setupFields,
  slotPatch,
  stageStates,
  currentStage,
  stepRequest,
  type JobSummary,
} from '@oak-gauge/contract'
import { OakError } from '@oak-gauge/core/base/errors.ts'
import { ItemRow, JobRow, SetupRow, SlotRow, StepRow } from '../db/models.ts'
import { cancelStep, dismissStep, enqueueStep, jobIsBusy, moveHead, rerunStep, type Queue } from '../ledger/enqueue.ts'
import { recipeOf } from '../ledger/recipe.ts'
import { jobOr404, jobState, loadLedger, toStep, trayItems } from '../ledger/state.ts'
import { headlineOf } from '../ledger/headline.ts'

export function jobRoutes(queue: Queue): Router {
  const r = Router()
  const changed = (job: string) => queue.bus.emit({ type: 'changed', job })

  r.get('/jobs', async (_req, res) => {
    const jobs = await JobRow.findAll({ order: [['createdAt', 'ASC']] })
    res.json(await Promise.all(jobs.map(summary)))
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
    const job = await jobOr404(req.params.id)
    if (await jobIsBusy(job)) throw new OakError('busy', 'A step of this job is still running.', { remedy: 'Cancel it first.' })
    await job.destroy()
    await changed(job.id)
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
    const steps = await rerunStep(queue, req.params.id, req.params.step, rerunRequest.parse(req.body).params)
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
  r.delete('/jobs/:id/steps/:step', async (req, res) => {
    await dismissStep(queue, req.params.id, req.params.step)
    res.status(204).end()
  })
  r.post('/jobs/:id/head', async (req, res) => {
    await moveHead(queue, req.params.id, headRequest.parse(req.body).step)
    res.json(await jobState(req.params.id))
  })
  r.get('/jobs/:id/recipe', async (req, res) => {
    const ledger = await loadLedger(req.params.id)
    res.setHeader('Content-Disposition', `attachment; filename="${fileName(ledger.job.title)} recipe.json"`)
    res.json(await recipeOf(ledger))
  })
  return r
}

export const fileName = (title: string) =>
  title
    .replace(/[^\p{L}\p{N} ._-]+/gu, ' ')
    .replace(/[^\x20-\x7e]/g, '_')
    .trim() || 'job'

/** Of the newest step on the path that has one. */
async function lastPicture(path: StepRow[]): Promise<string | null> {
  const step = await StepRow.findOne({ where: { id: path.map((s) => s.id), picture: { [Op.ne]: null } }, order: [['seq', 'DESC']], attributes: ['picture'] })
  return step?.picture ?? null
}

async function summary(job: JobRow): Promise<JobSummary> {
  const l = await loadLedger(job.id)
  const tray = trayItems(l)
  const path = l.path.map(toStep)
  const stage = currentStage(stageStates(path, tray, job))
  return {
    id: job.id,
    title: job.title,
    part: job.part,
    purpose: job.purpose,
    tolerance: job.tolerance,
    surface: job.surface,
    notes: job.notes,
    scanner: job.scanner,
    demo: job.demo,
    createdAt: job.createdAt.toISOString(),
    updatedAt: job.updatedAt.toISOString(),
    stage,
    headline: headlineOf(stage, path, tray),
    picture: await lastPicture(l.path),
    passes: tray.filter((i) => i.role === 'pass').length,
    busy: l.steps.some((s) => s.state === 'queued' || s.state === 'running'),
  }
}
