import { Button, Segmented } from 'antd'
import { useRef, useState, type DragEvent, type ReactNode } from 'react'
import { BRINGING, UNITS, type Step } from '@oak-gauge/contract'
import { useForgetUploadMutation, useOpenUploadsQuery, useDismissStepMutation, useMoveToSetupMutation, useRerunStepMutation } from '../../api.ts'
import { bytes, short } from '../../looks/quantity.ts'
import { ProblemBox } from '../../looks/ProblemBox.tsx'
import { useOpenJob } from '../../job/useJob.ts'
import { useStep } from '../../job/useStep.ts'
import { WorkCard } from '../../job/WorkCard.tsx'
import type { CardProps } from '../cards.ts'
import { recordedBy, RecordedPass } from './RecordedPass.tsx'
import { SetupField } from './SetupField.tsx'
import { filesOf } from './framefiles.ts'
import { dismissUpload, upload, uploadFrames, useUploads } from './upload.ts'
import { t } from '../../words/t.ts'

const TAKEN = '.ply,.stl,.obj,.3mf,.xyz,.asc,.csv,.txt,.pts,.step,.stp,.e57,.frames'
const FRAMES = '.ply,.stl,.obj,.xyz,.asc,.csv,.txt,.pts,.e57,.png,.json,.zip,.frames'
type As = 'auto' | 'nominal' | 'frames'
/** s since the last byte came */
const ELSEWHERE = 10

/** Files in: recorded passes, meshes, nominals. */
export function FilesPart({ head, go }: CardProps & { head: ReactNode }) {
  const { state, path, passes, meshes, nominals } = useOpenJob()
  const job = state.job.id
  const uploads = useUploads(job)
  const [as, setAs] = useState<As>('auto')
  const [setup, setSetup] = useState<string | null>(null)
  const [over, setOver] = useState(false)
  const input = useRef<HTMLInputElement>(null)
  const folder = useRef<HTMLInputElement>(null)
  const [move] = useMoveToSetupMutation()
  const aside = useStep()
  const { data: open = [] } = useOpenUploadsQuery(job, { refetchOnMountOrArgChange: true })
  const [forget] = useForgetUploadMutation()
  // what no window of this browser is sending
  const halfway = open.filter((o) => !uploads.some((u) => u.id === o.id))
  const into = setup ?? state.setups.at(-1)?.id
  const there = into ? { setup: into } : {}
  const take = (list: FileList | null) => {
    if (!list?.length) return
    if (as === 'frames') void filesOf(list).then((files) => uploadFrames(job, files, there))
    else upload(job, [...list], as === 'nominal' ? { role: 'nominal' } : there)
  }
  const drop = (e: DragEvent) => {
    e.preventDefault()
    setOver(false)
    // a folder among them is looked through
    if (as === 'frames') void filesOf(e.dataTransfer.items).then((files) => files.length && uploadFrames(job, files, there))
    else take(e.dataTransfer.files)
  }
  const refused = state.steps.filter((s) => BRINGING.includes(s.operation) && s.state === 'failed')
  // at first what was recorded last, as long as nothing came after it
  const last = path.at(-1)
  const [chosen, choose] = useState<string | null | undefined>(undefined)
  const shown = passes.find((i) => (chosen === undefined ? last && recordedBy([last], i) : i.slot === chosen))
  const how = shown && recordedBy(path, shown)
  const items = [...passes, ...nominals, ...meshes.filter((i) => BRINGING.includes(state.steps.find((s) => s.id === i.step)?.operation ?? ''))]
  return (
    <WorkCard
      question={t('What was recorded?')}
      about={t('Bring in the passes of each setup, and the nominal if there is one. Files are kept as they are; every change later is a step of its own.')}
      foot={
        <Button type="primary" disabled={!passes.length && !meshes.length} onClick={() => go(passes.length ? 'Clean' : 'Datum')}>
          {passes.length || !meshes.length ? t('Go on to Clean') : t('Go on to Datum')}
        </Button>
      }
    >
      {head}
      {shown && how && <RecordedPass key={how.id} step={how} pass={shown} />}
      <Segmented<As>
        block
        value={as}
        onChange={setAs}
        options={[
          { value: 'auto', label: t('Scans') },
          { value: 'frames', label: t('Frames') },
          { value: 'nominal', label: t('A nominal') },
        ]}
      />
      {as !== 'nominal' && <SetupField id="c-setup" label={t('Recorded in')} value={setup} onChange={setSetup} />}
      <div
        className={`drop${over ? ' over' : ''}`}
        role="button"
        tabIndex={0}
        onClick={() => input.current?.click()}
        onKeyDown={(e) => {
          if (e.key === 'Enter') input.current?.click()
        }}
        onDragOver={(e) => {
          e.preventDefault()
          setOver(true)
        }}
        onDragLeave={() => setOver(false)}
        onDrop={drop}
      >
        <b>{t('Drop files here, or choose them')}</b>
        <div className="hint">
          {as === 'frames'
            ? t(
                'All frames of one recording, each as points in the coordinates of the scanner (PLY, STL, OBJ, XYZ, E57) or as a range image (PNG, 16 bits). frames.json beside them may say poses, times, markers and the camera.',
              )
            : t('PLY, STL, OBJ, 3MF, point text (XYZ, ASC, CSV), STEP, E57, recordings (.frames); up to 2 GB each')}
        </div>
        <input
          ref={input}
          type="file"
          multiple
          hidden
          accept={as === 'frames' ? FRAMES : TAKEN}
          onChange={(e) => {
            take(e.target.files)
            e.target.value = ''
          }}
        />
      </div>
      {as === 'frames' && (
        <>
          <Button onClick={() => folder.current?.click()}>{t('Choose a whole folder')}</Button>
          <input
            ref={folder}
            type="file"
            hidden
            {...{ webkitdirectory: '' }}
            aria-label={t('Folder of frames')}
            onChange={(e) => {
              take(e.target.files)
              e.target.value = ''
            }}
          />
        </>
      )}
      <div className="files">
        {uploads.map((u) => (
          <div className="file" key={u.key}>
            <div className="abreast">
              <span className="grow">{u.name}</span>
              <span className="figure soft">
                {u.problem
                  ? ''
                  : u.packed !== null
                    ? t('packed: {{percent}} % of {{size}}', { percent: Math.round(100 * u.packed), size: bytes(u.bytes) })
                    : u.waits
                      ? t('waits for the server')
                      : t('{{percent}} % of {{size}}', { percent: Math.round(100 * u.sent), size: bytes(u.bytes) })}
              </span>
              <Button size="small" onClick={() => (u.problem ? dismissUpload(u.key) : u.stop())}>
                {u.problem ? t('Close') : t('Stop')}
              </Button>
            </div>
            {u.problem && <ProblemBox problem={u.problem} />}
          </div>
        ))}
        {halfway.map((o) => (
          <div className="file" key={o.id}>
            <div className="abreast">
              <span className="grow">{o.name}</span>
              <span className="figure soft">{t('{{percent}} % of {{size}}', { percent: Math.floor((100 * o.bytes) / o.size), size: bytes(o.size) })}</span>
              <Button size="small" onClick={() => void forget({ job, id: o.id })}>
                {t('Forget')}
              </Button>
            </div>
            <div className="hint">
              {o.idle < ELSEWHERE ? t('Another window is sending it.') : t('The rest has not come. Choose the file again, and it goes on from there.')}
            </div>
          </div>
        ))}
        {refused.map((s) => (
          <Refused key={s.id} step={s} />
        ))}
        {items.map((i) => (
          <div className="file abreast" key={i.slot}>
            <span className="grow one-line" title={i.name}>
              {i.name}
            </span>
            {i.role === 'pass' ? (
              <select
                aria-label={t('Setup of {{name}}', { name: i.name })}
                value={i.setup ?? ''}
                onChange={(e) => void move({ id: job, slot: i.slot, setup: e.target.value || null })}
              >
                <option value="">{t('no setup')}</option>
                {state.setups.map((s) => (
                  <option key={s.id} value={s.id}>
                    {s.name.split(',')[0]}
                  </option>
                ))}
              </select>
            ) : (
              <span className="soft">{i.role}</span>
            )}
            <span className="figure soft">{short(i.count)}</span>
            {recordedBy(path, i) && (
              <Button
                size="small"
                aria-pressed={shown?.slot === i.slot}
                aria-label={t('How {{name}} was recorded', { name: i.name })}
                title={t('How it was recorded: time line, and what is left out')}
                onClick={() => choose(shown?.slot === i.slot ? null : i.slot)}
              >
                <LineSign />
              </Button>
            )}
            <Button
              size="small"
              aria-label={t('Set {{name}} aside', { name: i.name })}
              title={t('Set aside (the ledger brings it back)')}
              onClick={() => void aside.run({ operation: 'set-aside', inputs: { items: [i.slot] } })}
            >
              –
            </Button>
          </div>
        ))}
      </div>
    </WorkCard>
  )
}

function LineSign() {
  return (
    <svg width="14" height="10" viewBox="0 0 14 10" aria-hidden="true" fill="none" stroke="currentColor" strokeWidth="1.5">
      <path d="M0.5 8.5H13.5M0.5 5.5L4 3.500L7 4.500L10 1.500L13.500 2.500" />
    </svg>
  )
}

/** A file that could not be read; when only its unit is missing, it is asked for. */
function Refused({ step }: { step: Step }) {
  const { state } = useOpenJob()
  const [rerun] = useRerunStepMutation()
  const [dismiss] = useDismissStepMutation()
  if (!step.problem) return null
  const again = (unit: string) => void rerun({ id: state.job.id, step: step.id, params: { ...step.params, unit } })
  return (
    <ProblemBox problem={step.problem}>
      <span className="abreast wrap below">
        {step.problem.code === 'unit-unknown' &&
          UNITS.map((u) => (
            <Button key={u} size="small" onClick={() => again(u)}>
              {u === 'um' ? 'µm' : u}
            </Button>
          ))}
        <Button size="small" onClick={() => void dismiss({ id: state.job.id, step: step.id })}>
          {step.problem.code === 'unit-unknown' ? t('Leave it out') : t('Close')}
        </Button>
      </span>
    </ProblemBox>
  )
}
