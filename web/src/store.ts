import { configureStore } from '@reduxjs/toolkit'
import { useDispatch, useSelector } from 'react-redux'
import { api } from './api.ts'
import { progressSlice } from './progress.ts'
import { markSlice } from './stages/mark/markSlice.ts'
import { viewSlice } from './view/viewSlice.ts'

export const store = configureStore({
  reducer: { [api.reducerPath]: api.reducer, progress: progressSlice.reducer, view: viewSlice.reducer, mark: markSlice.reducer },
  middleware: (get) => get({ serializableCheck: false, immutableCheck: false }).concat(api.middleware),
  // what was asked for is seen at once: by the next picture, as is usual, a button could be pressed a second time while the stage draws
  enhancers: (get) => get({ autoBatch: { type: 'tick' } }),
})
export type RootState = ReturnType<typeof store.getState>
export const useAppDispatch = useDispatch.withTypes<typeof store.dispatch>()
export const useAppSelector = useSelector.withTypes<RootState>()
