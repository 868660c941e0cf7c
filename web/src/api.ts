import { createApi, fetchBaseQuery } from '@reduxjs/toolkit/query/react'
import type { JobFields, JobState, JobSummary, OperationInfo, Problem, Step, StepRequest } from '@oak-gauge/contract'

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
      query: ({ id, request }) => ({ url: `jobs/${id}/steps`, method: 'POST', body: request }),
    }),
    rerunStep: b.mutation<Step[], { id: string; step: string; params: Record<string, unknown> }>({
      query: ({ id, step, params }) => ({ url: `jobs/${id}/steps/${step}/rerun`, method: 'POST', body: { params } }),
    }),
    cancelStep: b.mutation<void, { id: string; step: string }>({ query: ({ id, step }) => ({ url: `jobs/${id}/steps/${step}/cancel`, method: 'POST' }) }),
    dismissStep: b.mutation<void, { id: string; step: string }>({ query: ({ id, step }) => ({ url: `jobs/${id}/steps/${step}`, method: 'DELETE' }) }),
    moveHead: b.mutation<JobState, { id: string; step: string | null }>({
      query: ({ id, step }) => ({ url: `jobs/${id}/head`, method: 'POST', body: { step } }),
    }),
    fileSize: b.query<{ bytes: number }, { item: string; format: string }>({ query: ({ item, format }) => `items/${item}/file-size?format=${format}` }),
  }),
})

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
