import { useEffect, useState } from 'react'
import { API, addressOf, unpack, type ScannerDetail, type ScannerSummary, type TrayItem } from '@oak-gauge/contract'
import type { OfferedScanner, RecordingBrief, RecordingProposal } from '@oak-gauge/core/capture/propose.ts'
import type { Up } from '@oak-gauge/core/markers/plan/shape.ts'
import { worstDistance } from '../../scanners/health.tsx'
import type { FromProposer, ToProposer } from './proposeworker.ts'

type Arrays = ToProposer['arrays']

/** What to rehearse first, and why; null until it is known. */
export function useProposal(item: TrayItem | undefined, up: Up, scanners: readonly ScannerSummary[], brief: RecordingBrief): RecordingProposal | null {
  const [part, setPart] = useState<{ id: string; arrays: Arrays } | null>(null)
  const [offered, setOffered] = useState<OfferedScanner[]>([])
  const [proposal, setProposal] = useState<RecordingProposal | null>(null)
  const id = item?.id ?? ''
  const shelf = scanners.map((s) => `${s.id} ${s.verification?.id ?? ''}`).join()
  useEffect(() => {
    const stop = new AbortController()
    void (async () => {
      if (!id) return
      const r = await fetch(addressOf(API.display, { id }, {}), { signal: stop.signal })
      if (r.ok) setPart({ id, arrays: unpack(await r.arrayBuffer()) })
    })().catch(() => undefined)
    return () => stop.abort()
  }, [id])
  useEffect(() => {
    const stop = new AbortController()
    void Promise.all(
      scanners.map(async (s): Promise<OfferedScanner> => {
        const { spec } = (await (await fetch(addressOf(API.scanner, { id: s.id }, {}), { signal: stop.signal })).json()) as ScannerDetail
        const worst = worstDistance(s)
        return { name: s.name, spec, distance: worst ? { error: worst.value, U: worst.uncertainty } : null }
      }),
    ).then(setOffered, () => undefined)
    return () => stop.abort()
    // eslint-disable-next-line react-hooks/exhaustive-deps -- what the key holds
  }, [shelf])
  const pose = item?.pose.join() ?? ''
  const asked = JSON.stringify(brief)
  useEffect(() => {
    if (!part || part.id !== id || !item || offered.length !== scanners.length) return
    const worker = new Worker(new URL('./proposeworker.ts', import.meta.url), { type: 'module' })
    worker.onmessage = ({ data }: MessageEvent<FromProposer>) => setProposal(data.proposal)
    worker.postMessage({ arrays: part.arrays, pose: item.pose, up, scanners: offered, brief } satisfies ToProposer)
    return () => worker.terminate()
    // eslint-disable-next-line react-hooks/exhaustive-deps -- what the keys hold
  }, [part, pose, up, offered, asked])
  return proposal
}
