import { createApi, fetchBaseQuery, type BaseQueryApi, type FetchArgs } from '@reduxjs/toolkit/query/react'
import { endOf } from '@oak-gauge/contract'
import type {
  ArtefactSummary,
  CalibrationDetail,
  HandRequest,
  JobFields,
  JobState,
  JobSummary,
  OperationInfo,
  Problem,
  RunState,
  ScannerDetail,
  ScannerSummary,
  StartCalibration,
  StartMapping,
  Step,
  StepRequest,
  VerificationDetail,
} from '@oak-gauge/contract'
import type { CadSurface } from '@oak-gauge/core/base/cad.ts'
import { progressSlice } from './progress.ts'

/**
 * A change of a ledger says behind which step the page saw it asked for, so that nobody changes a job unseen by somebody else; and has a number of its own,
 * so that sent twice it is one.
 */
function onLedger<A extends { id: string }, T>(to: (a: A) => { path: string; body: object }) {
  return async (a: A, { getState }: BaseQueryApi, _options: object, ask: (r: FetchArgs) => ReturnType<ReturnType<typeof fetchBaseQuery>>) => {
    const { path, body } = to(a)
    const seen = api.endpoints.job.select(a.id)(getState() as Parameters<ReturnType<typeof api.endpoints.job.select>>[0]).data
    const after = seen && { after: endOf(seen.head, seen.steps) }
    const r = await ask({ url: `jobs/${a.id}/${path}`, method: 'POST', body: { ...body, ...after, request: crypto.randomUUID() } })
    return r.error ? { error: r.error } : { data: r.data as T }
  }
}

/** Everything asked of the server. Changes reach the open page by server-sent events (live.ts), which mark these answers as stale. */
export const api = createApi({
  baseQuery: fetchBaseQuery({ baseUrl: '/api' }),
  tagTypes: ['Jobs', 'Job', 'Scanners', 'Scanner', 'Artefacts'],
  endpoints: (b) => ({
    jobs: b.query<JobSummary[], void>({ query: () => 'jobs', providesTags: ['Jobs'] }),
    job: b.query<JobState, string>({ query: (id) => `jobs/${id}`, providesTags: (_r, _e, id) => [{ type: 'Job', id }] }),
    operations: b.query<OperationInfo[], void>({ query: () => 'operations' }),
    createJob: b.mutation<JobState, Partial<JobFields> & { title: string }>({
      query: (body) => ({ url: 'jobs', method: 'POST', body }),
      invalidatesTags: ['Jobs'],
    }),
    patchJob: b.mutation<JobState, { id: string; patch: Partial<JobFields> }>({
      query: ({ id, patch }) => ({ url: `jobs/${id}`, method: 'PATCH', body: patch }),
      invalidatesTags: (_r, _e, { id }) => [{ type: 'Job', id }, 'Jobs'],
    }),
    deleteJob: b.mutation<void, string>({ query: (id) => ({ url: `jobs/${id}`, method: 'DELETE' }), invalidatesTags: ['Jobs'] }),
    addSetup: b.mutation<JobState, { id: string; name: string }>({ query: ({ id, name }) => ({ url: `jobs/${id}/setups`, method: 'POST', body: { name } }) }),
    moveToSetup: b.mutation<JobState, { id: string; slot: string; setup: string | null }>({
      query: ({ id, slot, setup }) => ({ url: `jobs/${id}/slots/${slot}`, method: 'PATCH', body: { setup } }),
    }),
    runStep: b.mutation<Step, { id: string; request: StepRequest }>({
      queryFn: onLedger(({ request }) => ({ path: 'steps', body: request })),
      onQueryStarted: ({ id }, sent) => entered(id, sent),
    }),
    rerunStep: b.mutation<Step[], { id: string; step: string; params: Record<string, unknown> }>({
      queryFn: onLedger(({ step, params }) => ({ path: `steps/${step}/rerun`, body: { params } })),
      onQueryStarted: ({ id }, sent) => entered(id, sent),
    }),
    cancelStep: b.mutation<void, { id: string; step: string }>({ query: ({ id, step }) => ({ url: `jobs/${id}/steps/${step}/cancel`, method: 'POST' }) }),
    dismissStep: b.mutation<void, { id: string; step: string }>({ query: ({ id, step }) => ({ url: `jobs/${id}/steps/${step}`, method: 'DELETE' }) }),
    moveHead: b.mutation<JobState, { id: string; step: string | null }>({
      queryFn: onLedger(({ step }) => ({ path: 'head', body: { step } })),
      onQueryStarted: async ({ id }, { dispatch, queryFulfilled }) => {
        const answer = await queryFulfilled.catch(() => undefined)
        // refused: what the page shows is of before
        dispatch(answer ? api.util.updateQueryData('job', id, () => answer.data) : api.util.invalidateTags([{ type: 'Job', id }]))
      },
    }),
    scanners: b.query<ScannerSummary[], void>({ query: () => 'scanners', providesTags: ['Scanners'] }),
    scanner: b.query<ScannerDetail, string>({ query: (id) => `scanners/${id}`, providesTags: (_r, _e, id) => [{ type: 'Scanner', id }] }),
    scannerRun: b.query<RunState | null, string>({ query: (id) => `scanners/${id}/run`, providesTags: (_r, _e, id) => [{ type: 'Scanner', id }] }),
    addScanner: b.mutation<ScannerSummary, { address: string }>({
      query: (body) => ({ url: 'scanners', method: 'POST', body }),
      invalidatesTags: ['Scanners'],
    }),
    patchScanner: b.mutation<ScannerSummary, { id: string; on?: boolean; exposure?: number }>({
      query: ({ id, ...body }) => ({ url: `scanners/${id}`, method: 'PATCH', body }),
    }),
    dropScanner: b.mutation<void, string>({ query: (id) => ({ url: `scanners/${id}/drop`, method: 'POST' }) }),
    startCalibration: b.mutation<RunState, { id: string; body: StartCalibration }>({
      query: ({ id, body }) => ({ url: `scanners/${id}/calibrations`, method: 'POST', body }),
      invalidatesTags: (_r, _e, { id }) => [{ type: 'Scanner', id }],
    }),
    startVerification: b.mutation<RunState, { id: string; body: { bar: string; cold: boolean } }>({
      query: ({ id, body }) => ({ url: `scanners/${id}/verifications`, method: 'POST', body }),
      invalidatesTags: (_r, _e, { id }) => [{ type: 'Scanner', id }],
    }),
    startMapping: b.mutation<RunState, { job: string; body: StartMapping }>({
      query: ({ job, body }) => ({ url: `jobs/${job}/mapping`, method: 'POST', body }),
      invalidatesTags: (_r, _e, { body }) => [{ type: 'Scanner', id: body.scanner }, 'Scanners'],
    }),
    actOnRun: b.mutation<RunState, { id: string; what: string; body?: HandRequest | object }>({
      query: ({ id, what, body }) => ({ url: `scanners/${id}/run/${what}`, method: 'POST', body: body ?? {} }),
      invalidatesTags: (_r, _e, { id, what }) => (what === 'hand' || what === 'path' ? [] : [{ type: 'Scanner', id }]),
    }),
    putIntoUse: b.mutation<ScannerDetail, { id: string; calibration: string }>({
      query: ({ id, calibration }) => ({ url: `scanners/${id}/use/${calibration}`, method: 'POST' }),
    }),
    calibration: b.query<CalibrationDetail, string>({ query: (id) => `calibrations/${id}` }),
    verification: b.query<VerificationDetail, string>({ query: (id) => `verifications/${id}` }),
    artefacts: b.query<ArtefactSummary[], void>({ query: () => 'artefacts', providesTags: ['Artefacts'] }),
    addArtefact: b.mutation<ArtefactSummary, { name: string; text: string }>({
      query: ({ name, text }) => ({ url: `artefacts?name=${encodeURIComponent(name)}`, method: 'PUT', body: text, headers: { 'content-type': 'text/plain' } }),
      invalidatesTags: ['Artefacts'],
    }),
    surfaces: b.query<CadSurface[], string>({ query: (item) => `items/${item}/surfaces` }),
    fileSize: b.query<{ bytes: number }, { item: string; format: string }>({ query: ({ item, format }) => `items/${item}/file-size?format=${format}` }),
  }),
})

/**
 * What was taken on is under way from the answer on, though the page's ledger may be of before it: nobody presses a second time in between, and what is
 * asked for next is asked for behind it. What was refused may have been asked for on a ledger of before: it is fetched again.
 */
async function entered(
  job: string,
  { dispatch, queryFulfilled }: { dispatch: (a: never) => unknown; queryFulfilled: Promise<{ data: Step | Step[] }> },
): Promise<void> {
  const answer = await queryFulfilled.catch(() => undefined)
  if (answer) {
    dispatch(progressSlice.actions.asked({ job, at: Date.now() }) as never)
    const made = [answer.data].flat()
    dispatch(
      api.util.updateQueryData('job', job, (state) => {
        const steps = state.steps as Step[]
        return { ...(state as JobState), steps: [...steps, ...made.filter((m) => !steps.some((s) => s.id === m.id))] }
      }) as never,
    )
  }
  dispatch(api.util.invalidateTags([{ type: 'Job', id: job }]) as never)
}

/** Requests that change the ledger. */
const CHANGES = ['runStep', 'rerunStep', 'moveHead']
/** Whether one is not answered yet, or the page's ledger is still of before its answer. */
export function isAsking(state: { api: { mutations: object; queries: object }; progress: { asked: Record<string, number> } }): boolean {
  const mutations = Object.values(state.api.mutations) as ({ status?: string; endpointName?: string } | undefined)[]
  if (mutations.some((m) => m?.status === 'pending' && CHANGES.includes(m.endpointName ?? ''))) return true
  return Object.entries(state.progress.asked).some(([job, at]) => {
    const known = (state.api.queries as Record<string, { startedTimeStamp?: number; fulfilledTimeStamp?: number } | undefined>)[`job("${job}")`]
    return known !== undefined && ((known.startedTimeStamp ?? 0) < at || (known.fulfilledTimeStamp ?? 0) < (known.startedTimeStamp ?? 0))
  })
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
  useCancelStepMutation,
  useDismissStepMutation,
  useMoveHeadMutation,
  useFileSizeQuery,
  useSurfacesQuery,
  useScannersQuery,
  useScannerQuery,
  useScannerRunQuery,
  useAddScannerMutation,
  usePatchScannerMutation,
  useDropScannerMutation,
  useStartCalibrationMutation,
  useStartVerificationMutation,
  useActOnRunMutation,
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
  if (data && typeof data === 'object' && 'message' in data) return data as Problem
  return {
    code: 'no-answer',
    message: 'The server does not answer.',
    where: '',
    remedy: 'Nothing is lost. It is tried again by itself; if it stays so, start Oak Gauge again.',
  }
}
