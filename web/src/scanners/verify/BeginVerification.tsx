import { Button, Select } from 'antd'
import { useState } from 'react'
import { problemOf, useArtefactsQuery, useStartVerificationMutation } from '../../api.ts'
import { Card } from '../../looks/Card.tsx'
import { ProblemBox } from '../../looks/ProblemBox.tsx'
import { AddCertificate, CertificateWords } from '../certificates.tsx'
import { ColdNote, isCold } from '../Cold.tsx'
import type { ScannerPart } from '../ScannerPage.tsx'
import { fixed } from '../../looks/quantity.ts'

/** Which bar, and whether the scanner is ready for it. */
export function BeginVerification({ scanner: s, busy }: ScannerPart & { busy: boolean }) {
  const { data: artefacts } = useArtefactsQuery()
  const bars = artefacts?.filter((a) => a.kind === 'ball-bar') ?? []
  const nearest = bars.length ? bars.reduce((a, b) => (Math.abs(b.size - s.spec.barLength) < Math.abs(a.size - s.spec.barLength) ? b : a)) : undefined
  const [chosen, setChosen] = useState<string | null>(null)
  const [anyway, setAnyway] = useState(false)
  const [start, { error, isLoading }] = useStartVerificationMutation()
  const bar = bars.find((b) => b.id === chosen) ?? nearest
  const cold = isCold(s)
  const away = s.link !== 'connected'
  const problem = problemOf(error)
  return (
    <Card
      question="Which ball bar is it?"
      about={`A length near ${s.spec.barLength} mm fills the working volume of ${s.name}.`}
      foot={
        <Button
          type="primary"
          disabled={!bar || busy || away || (cold && !anyway)}
          loading={isLoading}
          onClick={() => bar && void start({ id: s.id, body: { bar: bar.id, cold: cold && anyway } })}
        >
          Begin
        </Button>
      }
    >
      <div className="field">
        <label htmlFor="bar">Ball bar</label>
        <Select
          id="bar"
          className="control"
          value={bar?.id ?? null}
          onChange={setChosen}
          options={bars.map((b) => ({ value: b.id, label: `${b.name}, ${fixed(b.size, 1)} mm` }))}
        />
        {bar && <CertificateWords of={bar} />}
      </div>
      <AddCertificate kind="ball bar" />
      {away && (
        <p className="note">{s.on ? (s.problem?.detail ?? 'The scanner is being connected.') : 'The scanner is switched off: switch it on under State.'}</p>
      )}
      {cold && <ColdNote scanner={s} anyway="Verify anyway" checked={anyway} onChange={setAnyway} />}
      {busy && <p className="note">A calibration is going on.</p>}
      {problem && <ProblemBox problem={problem} />}
    </Card>
  )
}
