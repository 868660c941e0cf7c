import { Button, Select } from 'antd'
import { useState } from 'react'
import { problemOf, useArtefactsQuery, useStartVerificationMutation } from '../../api.ts'
import { Card } from '../../looks/Card.tsx'
import { ProblemBox } from '../../looks/ProblemBox.tsx'
import { AddCertificate, CertificateWords } from '../certificates.tsx'
import { ColdNote, isCold } from '../Cold.tsx'
import type { ScannerPart } from '../ScannerPage.tsx'
import { fixed } from '../../looks/quantity.ts'
import { t } from '../../words/t.ts'

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
      question={t('Which ball bar is it?')}
      about={t('A length near {{barLength}} mm fills the working volume of {{name}}.', { barLength: s.spec.barLength, name: s.name })}
      foot={
        <Button
          type="primary"
          disabled={!bar || busy || away || (cold && !anyway)}
          loading={isLoading}
          onClick={() => bar && void start({ id: s.id, body: { bar: bar.id, cold: cold && anyway } })}
        >
          {t('Begin')}
        </Button>
      }
    >
      <div className="field">
        <label htmlFor="bar">{t('Ball bar')}</label>
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
        <p className="note">
          {s.on ? (s.problem?.detail ?? t('The scanner is being connected.')) : t('The scanner is switched off: switch it on under State.')}
        </p>
      )}
      {cold && <ColdNote scanner={s} anyway={t('Verify anyway')} checked={anyway} onChange={setAnyway} />}
      {busy && <p className="note">{t('A calibration is going on.')}</p>}
      {problem && <ProblemBox problem={problem} />}
    </Card>
  )
}
