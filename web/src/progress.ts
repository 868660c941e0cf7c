import { createSlice, type PayloadAction } from '@reduxjs/toolkit'

export interface Progress {
  progress: number
  phase: string
  /** milliseconds, null while unknown */
  remaining: number | null
}

export interface ProgressState {
  steps: Record<string, Progress>
  connected: boolean
  /** of each job, the number of the fetch of its ledger that the page had when the server last answered that it has taken a change on */
  asked: Record<string, string | undefined>
}
const initialState: ProgressState = { steps: {}, connected: true, asked: {} }

/** How far the running steps are; not in the ledger, only on the screen. */
export const progressSlice = createSlice({
  name: 'progress',
  initialState,
  reducers: {
    progressed(state, { payload }: PayloadAction<Progress & { step: string }>) {
      const { step, ...rest } = payload
      state.steps[step] = rest
    },
    asked(state, { payload }: PayloadAction<{ job: string; before: string | undefined }>) {
      state.asked[payload.job] = payload.before
    },
    connection(state, { payload }: PayloadAction<boolean>) {
      state.connected = payload
    },
  },
})
