import { useRef } from 'react'
import type { ArtefactSummary } from '@oak-gauge/contract'
import { problemOf, useAddArtefactMutation } from '../api.ts'
import { ProblemBox } from '../looks/ProblemBox.tsx'

/** From when the certificate of an artefact is, and whether it still holds. */
export function CertificateWords({ of: a, before = '' }: { of: ArtefactSummary; before?: string }) {
  return (
    <span className="reason">
      {before}
      certificate of {a.certificate.date}
      {a.certificate.valid ? '' : `, ended on ${a.certificate.ends}`}
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
        Add a {kind} from its certificate file
      </button>
      <input
        ref={input}
        type="file"
        hidden
        aria-label={`Certificate file of a ${kind}`}
        accept=".json,application/json"
        onChange={(e) => {
          const file = e.target.files?.[0]
          e.target.value = ''
          if (file) void file.text().then((text) => add({ name: file.name, text }))
        }}
      />
      {data && <p className="hint">{data.name} was added.</p>}
      {problem && <ProblemBox problem={problem} />}
    </div>
  )
}
