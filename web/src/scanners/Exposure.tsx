import type { ScannerDetail } from '@oak-gauge/contract'
import { problemOf, usePatchScannerMutation } from '../api.ts'
import { Amount } from '../looks/Amount.tsx'
import { ProblemBox } from '../looks/ProblemBox.tsx'
import { t } from '../words/t.ts'

/** How long the cameras look: what an image that is too bright or too dark asks to be changed. */
export function Exposure({ scanner }: { scanner: ScannerDetail }) {
  const [patch, { error }] = usePatchScannerMutation()
  const problem = problemOf(error)
  if (!scanner.state) return null
  return (
    <>
      <Amount
        label={t('Exposure')}
        unit=""
        value={scanner.state.exposure}
        usual={1}
        step={0.1}
        onChange={(exposure) => void patch({ id: scanner.id, exposure })}
        reason={t('1: matt white at the ideal distance is well exposed')}
      />
      {problem && <ProblemBox problem={problem} />}
    </>
  )
}
