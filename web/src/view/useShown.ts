import { useEffect, useMemo, useState } from 'react'
import { SWATCHES, type TrayItem } from '@oak-gauge/contract'
import { useEyes } from '../job/useEyes.ts'
import { useOpenJob } from '../job/useJob.ts'
import { useAppSelector } from '../store.ts'
import { displayOf, previewOf, type Arrays } from './display.ts'
import { growing } from './growing.ts'
import type { Shown } from './objects.ts'

const MESH = [176, 164, 146] as const
const NOMINAL = [214, 205, 186] as const
/** of all passes alike */
const PLAIN = [158, 141, 117] as const
export const EMPTY_LOOPS: never[] = []

export function swatchOf(item: TrayItem, passes: TrayItem[]): readonly [number, number, number] {
  if (item.role === 'mesh' || item.role === 'shape') return MESH
  if (item.role === 'nominal') return NOMINAL
  return SWATCHES[
    Math.max(
      0,
      passes.findIndex((p) => p.slot === item.slot),
    ) % SWATCHES.length
  ]
}

interface Preview {
  step: string
  /** slot to the flags of its shown points */
  gone: Map<string, Uint8Array>
}

/** Those of its points that came first. */
function beginningOf(s: Shown, known: number): Shown {
  const { xyz, normals, colours, map } = s.arrays
  if (!(xyz instanceof Float32Array)) return s
  const n = xyz.length / 3
  const place = (i: number) => (map ? map[i] : i)
  let count = 0
  for (let i = 0; i < n; i++) if (place(i) < known) count++
  const part = <T extends Float32Array | Uint8Array>(of: T): T => {
    const out = new (of.constructor as new (n: number) => T)(3 * count)
    for (let i = 0, to = 0; i < n; i++) if (place(i) < known) for (let k = 0; k < 3; k++) out[to++] = of[3 * i + k]
    return out
  }
  const arrays: Arrays = { xyz: part(xyz) }
  if (normals instanceof Float32Array) arrays['normals'] = part(normals)
  if (colours instanceof Uint8Array) arrays['colours'] = part(colours)
  return { ...s, id: `${s.id} up to ${known}`, part: true, count: Math.round((s.count * count) / Math.max(1, n)), arrays, values: null, gone: null }
}

/** What the stage draws now, with its data at hand; items whose data is still on the way are left out until it comes. */
export function useShown(): { shown: Shown[]; waiting: number; failed: boolean } {
  const job = useOpenJob()
  const { state, stage, passes } = job
  const hidden = useAppSelector((s) => s.view.hidden)
  const { isShown } = useEyes()
  const map = useAppSelector((s) => s.view.map)
  const going = useAppSelector((s) => s.view.going)
  const colouring = useAppSelector((s) => s.view.colouring)
  const upTo = useAppSelector((s) => s.view.upTo)
  const recording = growing.use()
  const [data, setData] = useState<ReadonlyMap<string, Arrays>>(new Map())
  const [failed, setFailed] = useState(false)
  const [preview, setPreview] = useState<Preview | null>(null)

  const wanted = useMemo(() => {
    const field = state.tray.find((i) => i.kind === 'field' && i.slot === map)
    // places that exist only to carry a map are drawn with it
    const drawn = state.tray.filter(
      (i) => i.kind !== 'field' && i.kind !== 'markers' && (i.role === 'map' && field?.on === i.slot ? !(hidden[i.slot] ?? false) : isShown(i)),
    )
    return { drawn, field }
  }, [state.tray, hidden, isShown, map])

  useEffect(() => {
    let live = true
    const ids = [...wanted.drawn.map((i) => i.id), ...(wanted.field ? [wanted.field.id] : [])]
    setFailed(false)
    for (const id of ids)
      displayOf(id)
        .then((arrays) => {
          if (live) setData((d) => (d.get(id) === arrays ? d : new Map([...[...d].filter(([k]) => ids.includes(k)), [id, arrays]])))
        })
        .catch(() => {
          if (live) setFailed(true)
        })
    return () => {
      live = false
    }
  }, [wanted])

  const previewStep = going.kind === 'step' ? state.steps.find((s) => s.id === going.step && s.state === 'done') : undefined
  const previewId = previewStep?.id
  useEffect(() => {
    if (!previewStep) {
      setPreview(null)
      return
    }
    let live = true
    previewOf(state.job.id, previewStep.id, (port, place) => previewStep.inputs[port]?.[place])
      .then((gone) => {
        if (live && gone) setPreview({ step: previewStep.id, gone })
      })
      .catch(() => {
        if (live) setFailed(true)
      })
    return () => {
      live = false
    }
    // eslint-disable-next-line react-hooks/exhaustive-deps -- a finished step never changes
  }, [previewId, state.job.id])

  return useMemo(() => {
    const shown: Shown[] = []
    let waiting = 0
    const choosing = stage === 'Datum' && wanted.drawn.some((i) => i.role === 'nominal')
    for (const i of wanted.drawn) {
      const arrays = data.get(i.id)
      if (!arrays) {
        waiting++
        continue
      }
      const values = wanted.field && wanted.field.on === i.slot ? (data.get(wanted.field.id)?.['values'] as Float32Array | undefined) : undefined
      const count = (i.kind === 'points' ? arrays['xyz'] : arrays['vertices']).length / 3
      shown.push({
        id: i.id,
        slot: i.slot,
        kind: i.kind === 'points' ? 'points' : 'mesh',
        spacing: i.spacing,
        count: i.count,
        pose: i.pose,
        colour: colouring === 'plain' && i.kind === 'points' ? PLAIN : swatchOf(i, passes),
        tinted: colouring === 'surface' && i.role !== 'nominal' && 'colours' in arrays,
        arrays,
        faces: i.role === 'nominal',
        // the faces to be chosen are the nominal's: the part shows through
        ghost: choosing && i.role === 'mesh',
        values: values?.length === count ? values : null,
        gone: preview?.gone.get(i.slot) ?? null,
      })
    }
    if (!recording) return { shown: shown.map((s) => (s.slot === upTo?.slot ? beginningOf(s, upTo.known) : s)), waiting, failed }
    const grown = upTo?.slot === recording.slot ? beginningOf(recording, upTo.known) : recording
    return { shown: [...shown, grown], waiting, failed }
  }, [wanted, data, passes, preview, stage, failed, colouring, recording, upTo])
}
