import { useScannersQuery } from '../../api.ts'
import { useOpenJob } from '../../job/useJob.ts'
import { MapPicture } from './MapPicture.tsx'
import { useMapping } from './useMapping.ts'

/** While markers are being recorded the growing map lies over the stage. */
export function MarkOverlay() {
  const { state } = useOpenJob()
  const { data } = useScannersQuery()
  const busy = data?.find((s) => s.run?.kind === 'mapping')
  const run = useMapping(busy?.id ?? null)
  if (!run || run.job !== state.job.id || run.phase === 'done' || run.phase === 'failed') return null
  return <MapPicture run={run} />
}
