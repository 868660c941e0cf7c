import { useScannersQuery } from '../api.ts'
import { createContext, useContext, useMemo } from 'react'
import { chain, STAGES, stageStates, type JobState, type Stage, type StageState, type Step, type TrayItem } from '@oak-gauge/contract'

export interface OpenJob {
  state: JobState
  /** steps from the first to where the job stands */
  path: Step[]
  stage: Stage
  states: Record<Stage, StageState>
  passes: TrayItem[]
  meshes: TrayItem[]
  nominals: TrayItem[]
  deviation: TrayItem | undefined
  busy: Step | undefined
}

const JobContext = createContext<OpenJob | null>(null)
export const JobProvider = JobContext.Provider

export function useOpenJob(): OpenJob {
  const job = useContext(JobContext)
  if (!job) throw new Error('outside of a job')
  return job
}

export function useJobView(state: JobState | undefined, stage: string | undefined): OpenJob | null {
  const ready = useReady(state?.job.scanner ?? null)
  return useMemo(() => {
    if (!state) return null
    const path = chain(state.steps, state.head)
    const role = (r: TrayItem['role']) => state.tray.filter((i) => i.role === r)
    return {
      state,
      path,
      stage: STAGES.find((s) => s === stage) ?? 'Capture',
      states: stageStates(path, state.tray, state.job, ready),
      passes: role('pass'),
      meshes: role('mesh'),
      nominals: role('nominal'),
      deviation: role('deviation').at(-1),
      busy: state.steps.find((s) => s.state === 'running') ?? state.steps.find((s) => s.state === 'queued'),
    }
  }, [state, stage, ready])
}

/** How the scanner chosen for the job stands. */
function useReady(scanner: string | null): StageState {
  const { data } = useScannersQuery(undefined, { skip: !scanner })
  const own = data?.find((s) => s.id === scanner)
  return !own ? 'open' : own.health.state === 'go' ? 'good' : 'look'
}

/** What a stage shows unless the person says otherwise. */
export function shownByDefault(item: TrayItem, stage: Stage, tray: TrayItem[]): boolean {
  const mesh = tray.some((i) => i.role === 'mesh')
  if (stage === 'Mark') return item.role === 'marker-plan' || item.role === 'marker-map' || item.role === 'shape' || shownForMarking(item, tray)
  if (item.role === 'shape') return false
  const early = stage === 'Brief' || stage === 'Ready' || stage === 'Capture' || stage === 'Clean' || stage === 'Align'
  if (item.role === 'pass') return early || !mesh
  if (item.role === 'mesh') return !early || !tray.some((i) => i.role === 'pass')
  if (item.role === 'nominal') return stage === 'Datum' || (stage === 'Capture' && !tray.some((i) => i.role === 'pass' || i.role === 'mesh'))
  return false
}

/** Markers are looked at on the shape they are planned on: the nominal, else a mesh, else what was recorded. */
function shownForMarking(item: TrayItem, tray: TrayItem[]): boolean {
  for (const role of ['nominal', 'mesh', 'pass'] as const) if (tray.some((i) => i.role === role)) return item.role === role
  return false
}
