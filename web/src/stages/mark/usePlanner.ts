import { useEffect, useState } from 'react'
import { API, addressOf, unpack, type TrayItem } from '@oak-gauge/contract'
import type { View } from '@oak-gauge/core/markers/plan/scene.ts'
import { useAppDispatch } from '../../store.ts'
import { mark, type PlanMarker } from './markSlice.ts'
import type { Settings } from './plansettings.ts'
import { judge, openPlanner } from './planner.ts'

/** Gives the planner's thread the part, and has it judge the markers whenever they change. */
export function usePlanner({
  settings: s,
  item,
  view,
  markers,
}: {
  settings: Settings
  item: TrayItem | undefined
  view: View | null
  markers: readonly PlanMarker[] | null
}): void {
  const dispatch = useAppDispatch()
  const [open, setOpen] = useState(0)
  const shapeKey = s.shape ? JSON.stringify(s.shape) : `${item?.id ?? ''} ${item?.pose.join() ?? ''}`
  const from = s.from === 'auto' ? (s.where === 'part' ? 'all' : 'above') : s.from
  const viewKey = view ? Object.values(view).join() : ''
  useEffect(() => {
    if (!view) return
    let live = true
    void (async () => {
      if (s.shape) openPlanner({ shape: s.shape, up: s.up, view, from })
      else if (item) {
        // the whole of it: what is judged here must be what the server planned on
        const r = await fetch(addressOf(API.display, { id: item.id }, { whole: '1' }))
        if (!r.ok || !live) return
        openPlanner({ shape: { arrays: unpack(await r.arrayBuffer()), pose: item.pose }, up: s.up, view, from })
      } else return
      if (live) setOpen((n) => n + 1)
    })()
    return () => {
      live = false
    }
    // eslint-disable-next-line react-hooks/exhaustive-deps -- what the keys hold
  }, [shapeKey, s.up, from, viewKey])
  useEffect(() => {
    if (!open || !markers) return
    let live = true
    const stock = { ...(s.stock.small === undefined ? {} : { '3': s.stock.small }), ...(s.stock.large === undefined ? {} : { '6': s.stock.large }) }
    void judge({ markers: [...markers], least: s.least, wanted: s.wanted, stock }).then((j) => {
      if (live) dispatch(mark.judged(j))
    })
    return () => {
      live = false
    }
  }, [open, markers, s.least, s.wanted, s.stock, dispatch])
}
