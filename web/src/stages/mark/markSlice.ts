import { createSlice, type PayloadAction } from '@reduxjs/toolkit'
import type { Perch } from '@oak-gauge/core/markers/markers.ts'
import type { PlanVerdict } from '@oak-gauge/core/markers/plan/judge.ts'

export interface PlanMarker {
  id: string
  at: [number, number, number]
  normal: [number, number, number]
  diameter: number
  perch: Perch
}

/** What the planner says of a set of markers. */
export interface Judged {
  verdict: PlanVerdict
  /** 3 a direction, unit, as the part stands (z up) */
  directions: number[]
  /** ms it took */
  took: number
}

export interface MarkState {
  /** the plan while it is changed by hand; null: as it lies in the job */
  draft: PlanMarker[] | null
  /** a click puts a marker there */
  adding: boolean
  selected: string | null
  judged: Judged | null
  /** last place under the hand: mm to the nearest edge (at most the clearance wished for), and how far its ground bends */
  ground: { clear: number; bend: number } | null
}

const initialState: MarkState = { draft: null, adding: false, selected: null, judged: null, ground: null }

export const markSlice = createSlice({
  name: 'mark',
  initialState,
  reducers: {
    draft: (s, { payload }: PayloadAction<PlanMarker[] | null>) => {
      s.draft = payload
      s.selected = null
      s.adding = false
      s.ground = null
    },
    moved: (s, { payload }: PayloadAction<{ id: string } & Pick<PlanMarker, 'at' | 'normal' | 'perch'>>) => {
      const { id, ...where } = payload
      s.draft = s.draft?.map((m) => (m.id === id ? { ...m, ...where } : m)) ?? null
    },
    added: (s, { payload }: PayloadAction<Omit<PlanMarker, 'id'>>) => {
      if (!s.draft) return
      const used = new Set(s.draft.map((m) => m.id))
      let n = 1
      while (used.has(String(n))) n++
      s.draft.push({ ...payload, id: String(n) })
      s.selected = String(n)
    },
    removed: (s, { payload }: PayloadAction<string>) => {
      s.draft = s.draft?.filter((m) => m.id !== payload) ?? null
      s.selected = null
    },
    sized: (s, { payload }: PayloadAction<{ id: string; diameter: number }>) => {
      s.draft = s.draft?.map((m) => (m.id === payload.id ? { ...m, diameter: payload.diameter } : m)) ?? null
    },
    selected: (s, { payload }: PayloadAction<string | null>) => void (s.selected = payload),
    adding: (s, { payload }: PayloadAction<boolean>) => void (s.adding = payload),
    judged: (s, { payload }: PayloadAction<Judged | null>) => void (s.judged = payload),
    ground: (s, { payload }: PayloadAction<MarkState['ground']>) => void (s.ground = payload),
    cleared: () => initialState,
  },
})
export const mark = markSlice.actions
