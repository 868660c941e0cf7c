import { useCallback, useState } from 'react'
import type { Problem, Step, StepRequest } from '@oak-gauge/contract'
import { isAsking, problemOf, useCancelStepMutation, useDismissStepMutation, useRunStepMutation } from '../api.ts'
import { useAppSelector } from '../store.ts'
import { forgetPreview } from '../view/display.ts'
import { useOpenJob } from './useJob.ts'

/** Runs operations on the open job, and follows the last one this card started. */
export function useStep() {
  const { state } = useOpenJob()
  const job = state.job.id
  const [started, setStarted] = useState<string | null>(null)
  const [refused, setRefused] = useState<Problem | null>(null)
  const [asked, setAsked] = useState<StepRequest | null>(null)
  const [post, { isLoading }] = useRunStepMutation()
  const [cancelStep] = useCancelStepMutation()
  const [dismiss] = useDismissStepMutation()
  const step: Step | undefined = state.steps.find((s) => s.id === started)
  const run = useCallback(
    async (request: StepRequest): Promise<Step | null> => {
      setRefused(null)
      setStarted(null)
      setAsked(request)
      const r = await post({ id: job, request })
      if (r.error) {
        setRefused(problemOf(r.error))
        return null
      }
      setStarted(r.data.id)
      return r.data
    },
    [job, post],
  )
  const asking = useAppSelector(isAsking(job))
  const running = isLoading || (started !== null && !step && asking) || step?.state === 'queued' || step?.state === 'running'
  return {
    run,
    step,
    running,
    /** asks once more for what was refused because the job had gone on */
    again: refused?.code === 'moved-on' && asked ? () => void run(asked) : null,
    problem: refused ?? (step?.state === 'failed' ? step.problem : null),
    cancel: (id: string) => void cancelStep({ id: job, step: id }),
    /** forgets what was shown; a preview that is of no more use goes from the database too */
    forget: useCallback(() => {
      if (step && (step.preview || step.state === 'failed' || step.state === 'cancelled')) {
        forgetPreview(step.id)
        void dismiss({ id: job, step: step.id })
      }
      setStarted(null)
      setRefused(null)
    }, [dismiss, job, step]),
  }
}
export type RunningStep = ReturnType<typeof useStep>
