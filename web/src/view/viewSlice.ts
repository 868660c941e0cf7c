import type { Evidence } from '@oak-gauge/core/operations/operation.ts'
import { createSlice, type PayloadAction } from '@reduxjs/toolkit'

/** What a click on the stage is for, besides turning the view. */
export type Picking =
  | { kind: 'none' }
  /** places on the table */
  | { kind: 'places'; most: number }
  /** the same places on both sides, in two views */
  | { kind: 'pairs'; anchor: string[]; loose: string[] }
  | { kind: 'faces'; slot: string }
  | { kind: 'flag' }
  | { kind: 'lasso'; mode: 'add' | 'remove' }

export interface Place {
  at: [number, number, number]
  slot: string
  /** number of the nominal's face, where it has faces */
  face: number | null
}

export interface Loop {
  view: number[]
  loop: number[]
  depth: [number, number, number]
  mode: 'add' | 'remove'
}

/** What shall be marked as going, before it goes. */
export type Going = { kind: 'none' } | { kind: 'plane'; normal: [number, number, number]; offset: number; slots: string[] } | { kind: 'step'; step: string }

/** Whose colours are drawn: of the passes, of the surface as it was recorded, or one for all. A map of values goes before. */
export type Colouring = 'pass' | 'surface' | 'plain'

export interface ViewState {
  evening: boolean
  /** hidden tray items by slot */
  hidden: Record<string, boolean>
  picking: Picking
  places: Place[]
  /** picked pairs: place on the loose and on the anchor side */
  pairs: { loose: Place | null; anchor: Place | null }[]
  loops: Loop[]
  faces: number[]
  going: Going
  /** what nothing holds, drawn as arrows */
  motions: NonNullable<Evidence['motions']>
  /** slot of the field that colours its item */
  map: string | null
  colouring: Colouring
  /** of what was recorded: only so many of its points, in the order in which they came */
  upTo: { slot: string; known: number } | null
  limit: number
  scale: number
  /** a value set while typing in the inspect card shows at once */
  ledgerOpen: boolean
  standardView: { view: number; count: number }
  frame: number
}

const initial: ViewState = {
  evening: typeof localStorage !== 'undefined' && localStorage.getItem('oak.evening') === 'yes',
  hidden: {},
  picking: { kind: 'none' },
  places: [],
  pairs: [],
  loops: [],
  faces: [],
  going: { kind: 'none' },
  motions: [],
  map: null,
  colouring: 'pass',
  upTo: null,
  limit: 0.1,
  scale: 1,
  ledgerOpen: false,
  standardView: { view: 0, count: 0 },
  frame: 0,
}

export const viewSlice = createSlice({
  name: 'view',
  initialState: initial,
  reducers: {
    evening: (s, { payload }: PayloadAction<boolean>) => void (s.evening = payload),
    hide: (s, { payload }: PayloadAction<{ slots: string[]; hidden: boolean }>) => {
      for (const slot of payload.slots) s.hidden[slot] = payload.hidden
    },
    /** back to what the stage shows by itself */
    unhide: (s, { payload }: PayloadAction<string[]>) => {
      for (const slot of payload) delete s.hidden[slot]
    },
    /** leaves another job's or stage's selections behind */
    cleared: (s) => {
      s.picking = { kind: 'none' }
      s.places = []
      s.pairs = []
      s.loops = []
      s.going = { kind: 'none' }
      s.upTo = null
    },
    upTo: (s, { payload }: PayloadAction<ViewState['upTo']>) => void (s.upTo = payload),
    pick: (s, { payload }: PayloadAction<Picking>) => void (s.picking = payload),
    placed: (s, { payload }: PayloadAction<Place>) => {
      if (s.picking.kind === 'places') s.places = [...s.places, payload].slice(-s.picking.most)
      if (s.picking.kind === 'flag') s.places = [payload]
    },
    places: (s, { payload }: PayloadAction<Place[]>) => void (s.places = payload),
    paired: (s, { payload: { place, side } }: PayloadAction<{ place: Place; side: 'loose' | 'anchor' }>) => {
      const open = s.pairs.find((p) => p[side] === null)
      if (open) open[side] = place
      else s.pairs.push(side === 'loose' ? { loose: place, anchor: null } : { loose: null, anchor: place })
    },
    pairs: (s, { payload }: PayloadAction<ViewState['pairs']>) => void (s.pairs = payload),
    looped: (s, { payload }: PayloadAction<Loop>) => void s.loops.push(payload),
    loops: (s, { payload }: PayloadAction<Loop[]>) => void (s.loops = payload),
    face: (s, { payload }: PayloadAction<number>) =>
      void (s.faces = s.faces.includes(payload) ? s.faces.filter((f) => f !== payload) : [...s.faces, payload].sort((a, b) => a - b)),
    faces: (s, { payload }: PayloadAction<number[]>) => void (s.faces = payload),
    motions: (s, { payload }: PayloadAction<ViewState['motions']>) => void (s.motions = payload),
    going: (s, { payload }: PayloadAction<Going>) => void (s.going = payload),
    colours: (s, { payload }: PayloadAction<{ map?: string | null; limit?: number; scale?: number }>) => void Object.assign(s, payload),
    colouring: (s, { payload }: PayloadAction<Colouring>) => void (s.colouring = payload),
    ledger: (s, { payload }: PayloadAction<boolean>) => void (s.ledgerOpen = payload),
    lookFrom: (s, { payload }: PayloadAction<number>) => void (s.standardView = { view: payload, count: s.standardView.count + 1 }),
    frameAll: (s) => void s.frame++,
  },
})
export const view = viewSlice.actions
