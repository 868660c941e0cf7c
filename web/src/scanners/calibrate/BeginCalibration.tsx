import { Button, Segmented } from 'antd'
import { useState } from 'react'
import type { ArtefactSummary, StartCalibration } from '@oak-gauge/contract'
import { problemOf, useActOnRunMutation, useArtefactsQuery, useStartCalibrationMutation } from '../../api.ts'
import { Card } from '../../looks/Card.tsx'
import { Choice } from '../../looks/Choice.tsx'
import { ProblemBox } from '../../looks/ProblemBox.tsx'
import { ColdNote, isCold } from '../Cold.tsx'
import type { ScannerPart } from '../ScannerPage.tsx'
import { AddCertificate, CertificateWords } from '../certificates.tsx'
import { pairsOf, sendPair } from './imagefiles.ts'
import { t } from '../../words/t.ts'

type Way = StartCalibration['way']

/** Before a calibration: which plate, which way, and is the scanner warm. */
export function BeginCalibration({ scanner: s, busy }: ScannerPart & { busy: boolean }) {
  const { data: artefacts } = useArtefactsQuery()
  const plates = artefacts?.filter((a) => a.kind === 'plate') ?? []
  const [low, high] = s.spec.platePitch
  const suits = (a: ArtefactSummary) => a.size >= low && a.size <= high
  const [chosen, setChosen] = useState<string | null>(null)
  const [onBench, setOnBench] = useState<string | null>(null)
  const [way, setWay] = useState<Way>(s.spec.turntable ? 'turntable' : 'hand')
  const [anyway, setAnyway] = useState(false)
  const [files, setFiles] = useState<File[]>([])
  const [sending, setSending] = useState<string | null>(null)
  const [start, starting] = useStartCalibrationMutation()
  const [act] = useActOnRunMutation()
  const [fileProblem, setFileProblem] = useState<ReturnType<typeof problemOf>>(null)
  const plate = plates.find((p) => p.id === chosen) ?? plates.find(suits) ?? plates.at(0)
  const cold = way !== 'files' && isCold(s)
  const pairs = pairsOf(files)
  const away = way !== 'files' && s.link !== 'connected'
  const problem = fileProblem ?? problemOf(starting.error)
  const begin = async () => {
    if (!plate) return
    setFileProblem(null)
    const r = await start({ id: s.id, body: { plate: plate.id, way, cold: cold && anyway, ...(onBench ? { onBench } : {}) } })
    if (r.error || way !== 'files') return
    for (const [k, p] of pairs.entries()) {
      setSending(t('pair {{k}} of {{pairs}}', { k: k + 1, pairs: pairs.length }))
      const failed = await sendPair(s.id, k, p)
      if (failed) {
        setFileProblem(failed)
        setSending(null)
        void act({ id: s.id, what: 'cancel' })
        return
      }
    }
    setSending(null)
    await act({ id: s.id, what: 'solve' })
  }
  const ways: { value: Way; label: string }[] = [
    ...(s.spec.turntable ? [{ value: 'turntable' as const, label: t('turntable') }] : [{ value: 'hand' as const, label: t('by hand') }]),
    ...(s.standIn && !s.spec.turntable ? [{ value: 'script' as const, label: t('by script') }] : []),
    { value: 'files', label: t('from images') },
  ]
  return (
    <>
      <div className="view">
        <div className="empty">
          <div className="teach">
            <PlatePicture />
            <b>{t('A plate with dots at known places shows the cameras what straight and long is.')}</b>
            <span className="soft">
              {t(
                'It is shown in some sixteen poses, near and far, tilted to all sides and in the corners. Each is taken by itself when it matches its ghost and holds still. It takes a minute or two.',
              )}
            </span>
          </div>
        </div>
      </div>
      <Card
        question={t('Which plate is it?')}
        about={t('{{name}} wants a pitch of {{low}} to {{high}} mm.', { name: s.name, low, high })}
        foot={
          <Button
            type="primary"
            disabled={!plate || busy || away || (cold && !anyway) || (way === 'files' && pairs.length === 0)}
            loading={starting.isLoading || sending !== null}
            onClick={() => void begin()}
          >
            {sending ?? (way === 'files' ? t('Measure {{pairs}} pairs of images', { pairs: pairs.length }) : t('Begin'))}
          </Button>
        }
      >
        <Choice
          id="plate"
          label={t('Plate')}
          value={plate?.id ?? null}
          onChange={setChosen}
          options={plates.map((p) => ({ value: p.id, label: `${p.name}, ${p.size} mm` }))}
        >
          {plate && <CertificateWords of={plate} before={suits(plate) ? '' : t('Its pitch does not suit this lens. ')} />}
        </Choice>
        <AddCertificate kind="plate" />
        <Segmented aria-label={t('Way')} value={way} onChange={setWay} options={ways} />
        {way === 'files' && (
          <div className="field">
            <label htmlFor="images">{t('Images')}</label>
            <input id="images" type="file" multiple accept="image/png,image/jpeg" onChange={(e) => setFiles([...(e.target.files ?? [])])} />
            <span className="reason">
              {t('PNG or JPEG as they came from the cameras, in pairs named alike, with “left” and “right” in the name.{{files}}', {
                files: !files.length ? '' : t(' {{pairs}} pairs among {{files}} files.', { pairs: pairs.length, files: files.length }),
              })}
            </span>
          </div>
        )}
        {s.standIn && way !== 'files' && (
          <details className="fine">
            <summary>{t('Stand-in')}</summary>
            <Choice
              id="on-bench"
              label={t('On the bench lies')}
              value={onBench ?? plate?.id ?? null}
              onChange={setOnBench}
              options={plates.map((p) => ({ value: p.id, label: p.name }))}
            >
              <span className="reason">{t('as a rule the plate whose file was chosen')}</span>
            </Choice>
          </details>
        )}
        {away && (
          <p className="note">
            {s.on ? (s.problem?.detail ?? t('The scanner is being connected.')) : t('The scanner is switched off: switch it on under State.')}
          </p>
        )}
        {cold && <ColdNote scanner={s} harm={t('A calibration made now drifts away.')} anyway={t('Calibrate anyway')} checked={anyway} onChange={setAnyway} />}
        {busy && <p className="note">{t('A verification is going on.')}</p>}
        {problem && <ProblemBox problem={problem} />}
      </Card>
    </>
  )
}

function PlatePicture() {
  return (
    <svg viewBox="0 0 240 150" width="240" height="150" aria-hidden="true">
      <g transform="matrix(1 0.08 -0.22 0.94 44 4)">
        <rect width="180" height="126" fill="var(--card)" stroke="var(--oak)" strokeWidth="1.5" />
        {Array.from({ length: 8 * 11 }, (_, i) => {
          const c = i % 11
          const r = Math.floor(i / 11)
          const large = (c === 2 && r === 2) || (c === 6 && r === 2) || (c === 2 && r === 5)
          return <circle key={i} cx={15 + c * 15} cy={11 + r * 15} r={large ? 5 : 3.2} fill="var(--ink)" />
        })}
      </g>
      <path d="M18 120q-12-50 30-90" fill="none" stroke="var(--oak)" strokeWidth="2" strokeDasharray="4 4" />
      <path d="M48 24l2 11-11-2z" fill="var(--oak)" />
    </svg>
  )
}
