import { useEffect, useState } from 'react'
import type { TrayItem } from '@oak-gauge/contract'
import { rotateVector, transformPoint } from '@oak-gauge/core/base/mat4.ts'
import { PERCHES, worstUncertainty } from '@oak-gauge/core/markers/markers.ts'
import { displayOf, type Arrays } from '../../view/display.ts'
import type { PlanMarker } from './markSlice.ts'

export interface ShownMarker extends PlanMarker {
  /** standard uncertainty, worst direction, mm; NaN where it is not known */
  u: number
  frames: number
}

/** Markers of an item in the job, out of the arrays the server sends. */
export function markersOf(a: Arrays, pose: number[]): ShownMarker[] {
  const diameters = a['diameters'] as Float32Array
  if (!diameters.length) return []
  const ids = new TextDecoder().decode(a['ids']).split('\n')
  const [p, n, c] = [a['positions'], a['normals'], a['covariance']]
  return ids.map((id, i) => ({
    id,
    at: transformPoint(pose, p[3 * i], p[3 * i + 1], p[3 * i + 2]),
    normal: rotateVector(pose, n[3 * i], n[3 * i + 1], n[3 * i + 2]),
    diameter: diameters[i],
    perch: PERCHES[a['perch'][i]] ?? 'part',
    u: worstUncertainty(c, i),
    frames: a['frames'][i],
  }))
}

/** The markers of an item of the tray; null until they are here. */
export function useMarkers(item: TrayItem | undefined): ShownMarker[] | null {
  const [list, setList] = useState<{ id: string; markers: ShownMarker[] } | null>(null)
  const id = item?.id
  const pose = item?.pose.join()
  useEffect(() => {
    if (!item) return
    let live = true
    displayOf(item.id)
      .then((a) => {
        if (live) setList({ id: item.id, markers: markersOf(a, item.pose) })
      })
      .catch(() => undefined)
    return () => {
      live = false
    }
    // eslint-disable-next-line react-hooks/exhaustive-deps -- an item never changes but for its pose
  }, [id, pose])
  return item && list?.id === item.id ? list.markers : null
}

/** Distance to the nearest other marker, mm. */
export function nearestOther(list: readonly PlanMarker[], m: PlanMarker): { id: string; distance: number } | null {
  let best: { id: string; distance: number } | null = null
  for (const o of list) {
    if (o.id === m.id) continue
    const distance = Math.hypot(o.at[0] - m.at[0], o.at[1] - m.at[1], o.at[2] - m.at[2])
    if (!best || distance < best.distance) best = { id: o.id, distance }
  }
  return best
}

/** By name, numbers as numbers. */
export const inOrder = <M extends { id: string }>(list: readonly M[]): M[] => [...list].sort((a, b) => a.id.localeCompare(b.id, 'en', { numeric: true }))
