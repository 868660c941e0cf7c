import { createApi, fetchBaseQuery, type BaseQueryApi, type FetchArgs } from '@reduxjs/toolkit/query/react'
import type { z } from 'zod'
import { API, BASE, endOf, pathOf } from '@oak-gauge/contract'
import type {
  AnswerOf,
  Api,
  ArtefactSummary,
  Endpoint,
  HandRequest,
  JobFields,
  JobState,
  JobSummary,
  OperationInfo,
  ParamsOf,
  Problem,
  RunState,
  ScannerSummary,
  StartCalibration,
  StartCapture,
  StartMapping,
  nudgeRequest,
  Step,
  StepRequest,
} from '@oak-gauge/contract'
import { progressSlice } from './progress.ts'
import { t } from './words/t.ts'

/**
 * A change of a ledger says behind which step the page saw it asked for, so that nobody changes a job unseen by somebody else; and has a number of its own,
 * so that sent twice it is one.
 */
function onLedger<A extends { id: string }, T>(request: (a: A) => FetchArgs) {
  return async (a: A, { getState }: BaseQueryApi, _options: object, ask: (r: FetchArgs) => ReturnType<ReturnType<typeof fetchBaseQuery>>) => {
    const seen = api.endpoints.job.select(a.id)(getState() as Parameters<ReturnType<typeof api.endpoints.job.select>>[0]).data
    const after = seen && { after: endOf(seen.head, seen.steps) }
    const asked = request(a)
    const r = await ask({ ...asked, body: { ...(asked.body as object), ...after, request: crypto.randomUUID() } })
    return r.error ? { error: r.error } : { data: r.data as T }
  }
}

type Reply<K extends keyof Api> = AnswerOf<Api[K]>

/** A request to an endpoint of the table, with every id in its place. */
const to = <const E extends Endpoint>(e: E, params: ParamsOf<E['path']>, body?: E['body'] extends z.ZodType ? z.input<E['body']> : never): FetchArgs => ({
  url: pathOf(e, params),
  method: e.method.toUpperCase(),
  ...(body === undefined ? {} : { body }),
})

/** All of a list, page by page. */
const whole =
  <K extends 'jobs' | 'scanners' | 'artefacts'>(list: K) =>
  async (_asked: unknown, _api: BaseQueryApi, _options: object, ask: (r: FetchArgs) => ReturnType<ReturnType<typeof fetchBaseQuery>>) => {
    const items: Reply<K>['items'][number][] = []
    for (let after: string | null | undefined; after !== null;) {
      const r = await ask({ url: API[list].path, params: { limit: 500, ...(after ? { after } : {}) } })
      if (r.error) return { error: r.error }
      const page = r.data as Reply<K>
      items.push(...page.items)
      after = page.next
    }
    return { data: items }
  }

/** Everything asked of the server. Changes reach the open page by server-sent events (live.ts), which mark these answers as stale. */
export const api = createApi({
  baseQuery: fetchBaseQuery({ baseUrl: BASE }),
  tagTypes: ['Jobs', 'Job', 'Uploads', 'Scanners', 'Scanner', 'Artefacts'],
  endpoints: (b) => ({
    health: b.query<Reply<'health'>, void>({ query: () => to(API.health, {}) }),
    jobs: b.query<JobSummary[], void>({ queryFn: whole('jobs'), providesTags: ['Jobs'] }),
    job: b.query<Reply<'job'>, string>({ query: (id) => to(API.job, { id }), providesTags: (_r, _e, id) => [{ type: 'Job', id }] }),
    operations: b.query<OperationInfo[], void>({ query: () => to(API.operations, {}), transformResponse: (r: Reply<'operations'>) => r.items }),
    createJob: b.mutation<Reply<'createJob'>, Partial<JobFields> & { title: string }>({
      query: (body) => to(API.createJob, {}, body),
      invalidatesTags: ['Jobs'],
    }),
    patchJob: b.mutation<Reply<'patchJob'>, { id: string; patch: Partial<JobFields> }>({
      query: ({ id, patch }) => to(API.patchJob, { id }, patch),
      invalidatesTags: (_r, _e, { id }) => [{ type: 'Job', id }, 'Jobs'],
    }),
    deleteJob: b.mutation<void, string>({ query: (id) => to(API.deleteJob, { id }), invalidatesTags: ['Jobs'] }),
    addSetup: b.mutation<Reply<'addSetup'>, { id: string; name: string }>({ query: ({ id, name }) => to(API.addSetup, { id }, { name }) }),
    moveToSetup: b.mutation<Reply<'moveToSetup'>, { id: string; slot: string; setup: string | null }>({
      query: ({ id, slot, setup }) => to(API.moveToSetup, { id, slot }, { setup }),
    }),
    runStep: b.mutation<Reply<'runStep'>, { id: string; request: StepRequest }>({
      queryFn: onLedger(({ id, request }) => to(API.runStep, { id }, request)),
      onQueryStarted: ({ id }, sent) => answered(id, sent, withSteps),
    }),
    rerunStep: b.mutation<Reply<'rerunStep'>, { id: string; step: string; params: Record<string, unknown> }>({
      queryFn: onLedger(({ id, step, params }) => to(API.rerunStep, { id, step }, { params })),
      onQueryStarted: ({ id }, sent) => answered(id, sent, withSteps),
    }),
    runRecipe: b.mutation<Reply<'runRecipe'>, { id: string; recipe: unknown }>({
      queryFn: onLedger(({ id, recipe }) => ({ ...to(API.runRecipe, { id }), body: { recipe } })),
      onQueryStarted: ({ id }, sent) => answered(id, sent, withSteps),
    }),
    cancelStep: b.mutation<void, { id: string; step: string }>({ query: (a) => to(API.cancelStep, a) }),
    dismissStep: b.mutation<void, { id: string; step: string }>({ query: (a) => to(API.dismissStep, a) }),
    moveHead: b.mutation<Reply<'moveHead'>, { id: string; step: string | null }>({
      queryFn: onLedger(({ id, step }) => to(API.moveHead, { id }, { step })),
      onQueryStarted: ({ id }, sent) => answered(id, sent, (_, there) => there),
    }),
    openUploads: b.query<Reply<'uploads'>, string>({ query: (id) => to(API.uploads, { id }), providesTags: (_r, _e, id) => [{ type: 'Uploads', id }] }),
    forgetUpload: b.mutation<void, { job: string; id: string }>({
      query: ({ id }) => ({ ...to(API.forgetUpload, { id }), headers: { 'tus-resumable': '1.0.0' } }),
      invalidatesTags: (_r, _e, { job }) => [{ type: 'Uploads', id: job }],
    }),
    scanners: b.query<ScannerSummary[], void>({ queryFn: whole('scanners'), providesTags: ['Scanners'] }),
    scanner: b.query<Reply<'scanner'>, string>({ query: (id) => to(API.scanner, { id }), providesTags: (_r, _e, id) => [{ type: 'Scanner', id }] }),
    scannerRun: b.query<Reply<'run'>, string>({ query: (id) => to(API.run, { id }), providesTags: (_r, _e, id) => [{ type: 'Scanner', id }] }),
    addScanner: b.mutation<Reply<'addScanner'>, { address: string }>({ query: (body) => to(API.addScanner, {}, body), invalidatesTags: ['Scanners'] }),
    patchScanner: b.mutation<Reply<'patchScanner'>, { id: string; on?: boolean; exposure?: number }>({
      query: ({ id, ...body }) => to(API.patchScanner, { id }, body),
    }),
    dropScanner: b.mutation<void, string>({ query: (id) => to(API.dropScanner, { id }) }),
    startCalibration: b.mutation<RunState, { id: string; body: StartCalibration }>({
      query: ({ id, body }) => to(API.startCalibration, { id }, body),
      invalidatesTags: (_r, _e, { id }) => [{ type: 'Scanner', id }],
    }),
    startVerification: b.mutation<RunState, { id: string; body: { bar: string; cold: boolean } }>({
      query: ({ id, body }) => to(API.startVerification, { id }, body),
      invalidatesTags: (_r, _e, { id }) => [{ type: 'Scanner', id }],
    }),
    startMapping: b.mutation<RunState, { job: string; body: StartMapping }>({
      query: ({ job, body }) => to(API.startMapping, { id: job }, body),
      invalidatesTags: (_r, _e, { body }) => [{ type: 'Scanner', id: body.scanner }, 'Scanners'],
    }),
    startCapture: b.mutation<RunState, { job: string; body: StartCapture }>({
      query: ({ job, body }) => to(API.startCapture, { id: job }, body),
      invalidatesTags: (_r, _e, { body }) => [{ type: 'Scanner', id: body.scanner }, 'Scanners'],
    }),
    actOnRun: b.mutation<RunState, { id: string; what: string; body?: HandRequest | z.input<typeof nudgeRequest> }>({
      query: ({ id, what, body }) => to(API.actOnRun, { id, what }, body ?? {}),
      invalidatesTags: (_r, _e, { id, what }) => (what === 'hand' || what === 'path' ? [] : [{ type: 'Scanner', id }]),
    }),
    putIntoUse: b.mutation<Reply<'putIntoUse'>, { id: string; calibration: string }>({ query: (a) => to(API.putIntoUse, a) }),
    calibration: b.query<Reply<'calibration'>, string>({ query: (id) => to(API.calibration, { id }) }),
    verification: b.query<Reply<'verification'>, string>({ query: (id) => to(API.verification, { id }) }),
    artefacts: b.query<ArtefactSummary[], void>({ queryFn: whole('artefacts'), providesTags: ['Artefacts'] }),
    addArtefact: b.mutation<Reply<'addArtefact'>, { name: string; text: string }>({
      query: ({ name, text }) => ({ ...to(API.addArtefact, {}), params: { name }, body: text, headers: { 'content-type': 'text/plain' } }),
      invalidatesTags: ['Artefacts'],
    }),
    surfaces: b.query<Reply<'surfaces'>, string>({ query: (id) => to(API.surfaces, { id }) }),
    fileSize: b.query<Reply<'fileSize'>, { item: string; format: string }>({
      query: ({ item, format }) => ({ ...to(API.fileSize, { id: item }), params: { format } }),
    }),
  }),
})

/**
 * What was taken on counts from the answer on, though the page's ledger may be of before it: nobody presses a second time in between, and what is
 * asked for next is asked for behind it. What was refused may have been asked for on a ledger of before: it is fetched again.
 */
async function answered<T>(job: string, { dispatch, getState, queryFulfilled }: Sending<T>, become: (ledger: JobState, answer: T) => JobState): Promise<void> {
  const answer = await queryFulfilled.catch(() => undefined)
  if (answer) {
    dispatch(progressSlice.actions.asked({ job, before: ledgerOf(getState() as Queries, job)?.requestId }) as never)
    dispatch(api.util.updateQueryData('job', job, (ledger) => become(ledger as JobState, answer.data)) as never)
  }
  dispatch(api.util.invalidateTags([{ type: 'Job', id: job }]) as never)
}
const withSteps = (ledger: JobState, made: Step | Step[]): JobState => ({
  ...ledger,
  steps: [...ledger.steps, ...[made].flat().filter((m) => !ledger.steps.some((s) => s.id === m.id))],
})

interface Sending<T> {
  dispatch(a: never): unknown
  getState(): unknown
  queryFulfilled: Promise<{ data: T }>
}
interface Queries {
  api: { mutations: object; queries: object }
}
/** The page's last fetch of a job's ledger. */
const ledgerOf = (state: Queries, job: string) => (state.api.queries as Record<string, { requestId?: string; status: string } | undefined>)[`job("${job}")`]

/** Requests that change the ledger. */
const CHANGES = ['runStep', 'rerunStep', 'runRecipe', 'moveHead']
/** Whether one is not answered yet, or the page's ledger is still of before its answer. By the numbers of fetches: two of them may fall into one millisecond. */
export const isAsking =
  (job: string) =>
  (state: Queries & { progress: { asked: Record<string, string | undefined> } }): boolean => {
    const mutations = Object.values(state.api.mutations) as ({ status?: string; endpointName?: string } | undefined)[]
    if (mutations.some((m) => m?.status === 'pending' && CHANGES.includes(m.endpointName ?? ''))) return true
    const known = ledgerOf(state, job)
    return job in state.progress.asked && known !== undefined && (known.status !== 'fulfilled' || known.requestId === state.progress.asked[job])
  }

export const {
  useJobsQuery,
  useJobQuery,
  useOperationsQuery,
  useCreateJobMutation,
  usePatchJobMutation,
  useDeleteJobMutation,
  useAddSetupMutation,
  useMoveToSetupMutation,
  useRunStepMutation,
  useRerunStepMutation,
  useRunRecipeMutation,
  useCancelStepMutation,
  useDismissStepMutation,
  useMoveHeadMutation,
  useFileSizeQuery,
  useSurfacesQuery,
  useOpenUploadsQuery,
  useForgetUploadMutation,
  useHealthQuery,
  useScannersQuery,
  useScannerQuery,
  useScannerRunQuery,
  useAddScannerMutation,
  usePatchScannerMutation,
  useDropScannerMutation,
  useStartCalibrationMutation,
  useStartVerificationMutation,
  useActOnRunMutation,
  useStartCaptureMutation,
  useStartMappingMutation,
  usePutIntoUseMutation,
  useCalibrationQuery,
  useVerificationQuery,
  useArtefactsQuery,
  useAddArtefactMutation,
} = api

/** What a failed request says, in the four words that every error has. */
export function problemOf(error: unknown): Problem | null {
  if (!error) return null
  const data = (error as { data?: unknown }).data
  if (data && typeof data === 'object' && 'detail' in data) return data as Problem
  return {
    code: 'no-answer',
    detail: t('The server does not answer.'),
    where: '',
    remedy: t('Nothing is lost. It is tried again by itself; if it stays so, start Oak Gauge again.'),
  }
}
