import { useRef } from 'react'
import type { ArtefactSummary } from '@oak-gauge/contract'
import { problemOf, useAddArtefactMutation } from '../api.ts'
import { ProblemBox } from '../looks/ProblemBox.tsx'
import { t } from '../words/t.ts'

/** From when the certificate of an artefact is, and whether it still holds. */
export function CertificateWords({ of: a, before = '' }: { of: ArtefactSummary; before?: string }) {
  return (
    <span className="reason">
      {t('{{before}}certificate of {{date}}{{valid}}', {
        before,
        date: a.certificate.date,
        valid: a.certificate.valid ? '' : t(', ended on {{ends}}', { ends: a.certificate.ends }),
      })}
    </span>
  )
}

/** Brings in a certificate file of one's own. */
export function AddCertificate({ kind }: { kind: 'plate' | 'ball bar' }) {
  const input = useRef<HTMLInputElement>(null)
  const [add, { error, data }] = useAddArtefactMutation()
  const problem = problemOf(error)
  return (
    <div>
      <button type="button" className="plain link" onClick={() => input.current?.click()}>
        {t('Add a {{kind}} from its certificate file', { kind })}
      </button>
      <input
        ref={input}
        type="file"
        hidden
        aria-label={t('Certificate file of a {{kind}}', { kind })}
        accept=".json,application/json"
        onChange={(e) => {
          const file = e.target.files?.[0]
          e.target.value = ''
          if (file) void file.text().then((text) => add({ name: file.name, text }))
        }}
      />
      {data && <p className="hint">{t('{{name}} was added.', { name: data.name })}</p>}
      {problem && <ProblemBox problem={problem} />}
    </div>
  )
}
