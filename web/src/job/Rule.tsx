import { STAGES, type Stage } from '@oak-gauge/contract'
import { RuleFrame } from '../looks/RuleFrame.tsx'
import { useOpenJob } from './useJob.ts'
import { t } from '../words/t.ts'

/** The stages of the open job. */
export function Rule({ go }: { go(stage: Stage): void }) {
  const { stage, states } = useOpenJob()
  return <RuleFrame label={t('Stages')} marks={STAGES.map((name) => ({ name, state: states[name] }))} at={stage} go={go} />
}
