import { useState } from 'react'
import { useArtefactsQuery, useScannerRunQuery, useVerificationQuery } from '../../api.ts'
import { Card } from '../../looks/Card.tsx'
import type { ScannerPart } from '../ScannerPage.tsx'
import { BeginVerification } from './BeginVerification.tsx'
import { Readings } from './Readings.tsx'
import { Running } from './Running.tsx'
import { Verdict } from './Verdict.tsx'
import { VolumePicture } from './VolumePicture.tsx'
import { t } from '../../words/t.ts'

/** A ball bar in seven positions, and the verdict. */
export function VerifyPart(props: ScannerPart) {
  const { scanner } = props
  const { data } = useScannerRunQuery(scanner.id)
  const [again, setAgain] = useState<string | null>(null)
  const run = data?.kind === 'verification' ? data : null
  const shown = run?.verification ?? scanner.verification?.id ?? ''
  // `data` would still hold the verification of the calibration before
  const { currentData: result } = useVerificationQuery(shown, { skip: !shown })
  const { data: artefacts } = useArtefactsQuery()
  const length = artefacts?.find((a) => a.name === (run?.bar ?? result?.bar))?.size ?? scanner.spec.barLength
  const open = run && run.phase !== 'done' && run.phase !== 'failed'
  const readings = open ? run.readings : (result?.readings ?? [])
  return (
    <>
      <div className="view resultview">
        {readings.length || open ? (
          <>
            <VolumePicture scanner={scanner} readings={readings} length={length} limit={scanner.spec.limits.distance} />
            <Readings readings={readings} limit={scanner.spec.limits.distance} />
          </>
        ) : (
          <div className="empty">
            <div className="teach">
              <BarPicture />
              <b>{t('Two spheres at a certified distance tell whether the scanner keeps its word.')}</b>
              <span className="soft">{t('The bar is measured in seven positions over the working volume, with the scanner standing still.')}</span>
            </div>
          </div>
        )}
      </div>
      {open ? (
        <Running {...props} run={run} />
      ) : shown && !result ? (
        // not yet known whether there is something to show
        <Card question={t('Reading the last verification')} />
      ) : result && again !== result.id && (run?.verification === result.id || scanner.verification) ? (
        <Verdict {...props} result={result} onAgain={() => setAgain(result.id)} />
      ) : (
        <BeginVerification {...props} busy={data?.kind === 'calibration' && !['done', 'failed'].includes(data.phase)} />
      )}
    </>
  )
}

function BarPicture() {
  return (
    <svg viewBox="0 0 260 90" width="260" height="90" aria-hidden="true">
      <line x1="50" y1="52" x2="210" y2="38" stroke="var(--oak)" strokeWidth="9" />
      <circle cx="44" cy="52" r="24" fill="var(--card)" stroke="var(--deep)" strokeWidth="2" />
      <circle cx="216" cy="38" r="24" fill="var(--card)" stroke="var(--deep)" strokeWidth="2" />
      <path d="M44 10v-6M216 6V2M44 7L216 4" stroke="var(--ink)" fill="none" />
    </svg>
  )
}
