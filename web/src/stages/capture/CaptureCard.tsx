import { Segmented } from 'antd'
import { useState } from 'react'
import { useScannersQuery } from '../../api.ts'
import { useOpenJob } from '../../job/useJob.ts'
import { isOver, useLiveRun } from '../../scanners/useLiveRun.ts'
import { t } from '../../words/t.ts'
import type { CardProps } from '../cards.ts'
import { FilesPart } from './FilesPart.tsx'
import { RecordPart } from './RecordPart.tsx'
import { RehearsePart } from './RehearsePart.tsx'
import { Recording } from './Recording.tsx'

type Way = 'files' | 'rehearse' | 'record'

/** Passes come from files, or from a scanner that is led over the part; that can be rehearsed before. */
export function CaptureCard({ go }: CardProps) {
  const { state } = useOpenJob()
  const { data: scanners = [] } = useScannersQuery()
  const busy = scanners.find((s) => s.run?.kind === 'capture' && !isOver(s.run))
  const run = useLiveRun(busy?.id ?? null, 'capture')
  const [way, setWay] = useState<Way>('files')
  // kept over a recording: the next setup is mostly recorded with the same one
  const [recorder, setRecorder] = useState<string | null>(null)
  if (busy && run && run.job === state.job.id && !isOver(run)) return <Recording run={run} scanner={busy} />
  const head = (
    <Segmented<Way>
      block
      value={way}
      onChange={setWay}
      options={[
        { value: 'files', label: t('From files') },
        { value: 'rehearse', label: t('Rehearse') },
        { value: 'record', label: t('By scanner') },
      ]}
    />
  )
  if (way === 'files') return <FilesPart head={head} go={go} />
  if (way === 'rehearse') return <RehearsePart head={head} scanners={scanners} onRecord={() => setWay('record')} />
  return <RecordPart head={head} go={go} scanners={scanners} chosen={recorder} choose={setRecorder} busy={busy && run?.job !== state.job.id ? busy.id : null} />
}
