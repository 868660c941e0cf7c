import { Router } from 'express'
import { API } from '@oak-gauge/contract'
import { OakError } from '@oak-gauge/core/base/errors.ts'
import { serve } from '../api/serve.ts'
import { ItemRow, JobRow, SetupRow, SlotRow, StepRow } from '../db/models.ts'
import { named } from '../download.ts'
import { benchCards } from '../ledger/bench.ts'
import { cancelStep, deleteJob, dismissStep, enqueueStep, moveHead, rerunStep } from '../ledger/enqueue.ts'
import { recipeOf } from '../ledger/recipe.ts'
import { runRecipe } from '../ledger/runrecipe.ts'
import { jobOr404, jobState, loadLedger, toStep } from '../ledger/state.ts'
import type { Queue } from '../queue.ts'

export function jobRoutes(queue: Queue): Router {
  const r = Router()
  const cards = benchCards()
  const changed = (job: string) => queue.bus.emit({ type: 'changed', job })

  serve(r, API.jobs, ({ query }) => cards(query))
  serve(r, API.createJob, async ({ body }) => {
    const job = await JobRow.create(body)
    await SetupRow.create({ jobId: job.id, name: 'Setup 1', place: 0 })
    await changed(job.id)
    return jobState(job.id)
  })
  serve(r, API.job, ({ params }) => jobState(params.id))
  serve(r, API.patchJob, async ({ params, body }) => {
    const job = await jobOr404(params.id)
    job.set(body as Partial<JobRow>)
    await job.save()
    await changed(job.id)
    return jobState(job.id)
  })
  serve(r, API.deleteJob, ({ params }) => deleteJob(queue, params.id))
  serve(r, API.addSetup, async ({ params, body }) => {
    const job = await jobOr404(params.id)
    const place = await SetupRow.count({ where: { jobId: job.id } })
    await SetupRow.create({ jobId: job.id, place, ...body })
    await changed(job.id)
    return jobState(job.id)
  })
  serve(r, API.renameSetup, async ({ params, body }) => {
    const setup = await SetupRow.findOne({ where: { id: params.setup, jobId: params.id } })
    if (!setup) throw new OakError('not-found', 'There is no such setup.')
    await setup.update(body)
    await changed(params.id)
    return jobState(params.id)
  })
  serve(r, API.moveToSetup, async ({ params, body }) => {
    const slot = await SlotRow.findOne({ where: { id: params.slot, jobId: params.id } })
    if (!slot) throw new OakError('not-found', 'There is no such item.')
    await slot.update({ setupId: body.setup })
    await changed(params.id)
    return jobState(params.id)
  })
  serve(r, API.moveHead, async ({ params, body }) => {
    await moveHead(queue, params.id, body.step, body.after)
    return jobState(params.id)
  })
  serve(r, API.recipe, async ({ params, res }) => {
    const ledger = await loadLedger(params.id)
    named(res, `${ledger.job.title} recipe`, 'json')
    return recipeOf(ledger)
  })

  serve(r, API.runStep, async ({ params, body }) => toStep(await enqueueStep(queue, params.id, body)))
  serve(r, API.runRecipe, async ({ params, body: { recipe, inputs, ...asked } }) => {
    const steps = await runRecipe(queue, params.id, recipe, inputs, asked)
    return steps.map(toStep)
  })
  serve(r, API.rerunStep, async ({ params, body: { params: settings, ...asked } }) => {
    const steps = await rerunStep(queue, params.id, params.step, settings, asked)
    return steps.map(toStep)
  })
  serve(r, API.cancelStep, async ({ params }) => {
    await cancelStep(queue, params.id, params.step)
    return {}
  })
  serve(r, API.dismissStep, ({ params }) => dismissStep(queue, params.id, params.step))
  serve(r, API.stepItems, async ({ params }) => {
    const items = await ItemRow.findAll({ where: { jobId: params.id, stepId: params.step }, order: [['place', 'ASC']] })
    return items.map(({ id, port, place }) => ({ id, port, place }))
  })
  serve(r, API.picture, async ({ params, res }) => {
    const step = await StepRow.findOne({ where: { id: params.step, jobId: params.id }, attributes: ['picture'] })
    if (!step?.picture) throw new OakError('not-found', 'There is no such picture.')
    // it never changes
    res.setHeader('Cache-Control', 'private, max-age=31536000, immutable')
    res.type('png').send(Buffer.from(step.picture, 'base64'))
  })
  return r
}
