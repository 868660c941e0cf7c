import { Segmented } from 'antd'
import { useState } from 'react'
import { useScannersQuery } from '../../api.ts'
import { useOpenJob } from '../../job/useJob.ts'
import { isOver, useLiveRun } from '../../scanners/useLiveRun.ts'
import { t } from '../../words/t.ts'
import type { CardProps } from '../cards.ts'
import { FilesPart } from './FilesPart.tsx'
import { RecordPart } from './RecordPart.tsx'
import { Recording } from './Recording.tsx'

type Way = 'files' | 'record'

/** Passes come from files, or from a scanner that is led over the part. */
export function CaptureCard({ go }: CardProps) {
  const { state } = useOpenJob()
  const { data: scanners = [] } = useScannersQuery()
  const busy = scanners.find((s) => s.run?.kind === 'capture' && !isOver(s.run))
  const run = useLiveRun(busy?.id ?? null, 'capture')
  const [way, setWay] = useState<Way>('files')
  if (busy && run && run.job === state.job.id && !isOver(run)) return <Recording run={run} scanner={busy} />
  const head = (
    <Segmented<Way>
      block
      value={way}
      onChange={setWay}
      options={[
        { value: 'files', label: t('From files') },
        { value: 'record', label: t('With a scanner') },
      ]}
    />
  )
  if (way === 'files') return <FilesPart head={head} go={go} />
  // a turntable and an arm lead themselves: their passes come as files so far
  const led = scanners.filter((s) => s.kind === 'laser-lines' || s.kind === 'area')
  return <RecordPart head={head} go={go} scanners={led} busy={busy && run?.job !== state.job.id ? busy.id : null} />
}
