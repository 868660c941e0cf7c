import { viewOf, type View } from '@oak-gauge/core/markers/plan/scene.ts'
import { useScannerQuery, useScannersQuery } from '../../api.ts'
import { useOpenJob } from '../../job/useJob.ts'

/** The scanner the plan is made for: that of the job, else the first on the shelf that needs markers, else the first. */
export function useScannerView(): { name: string; view: View } | null {
  const { state } = useOpenJob()
  const { data: all } = useScannersQuery()
  const id = state.job.scanner ?? (all?.find((s) => s.kind === 'laser-lines') ?? all?.find((s) => s.kind !== 'arm-line'))?.id ?? ''
  const { data } = useScannerQuery(id, { skip: !id })
  return data ? { name: data.name, view: viewOf(data.spec) } : null
}
