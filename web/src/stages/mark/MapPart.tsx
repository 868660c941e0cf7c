import { Button, Select } from 'antd'
import { useState, type ReactNode } from 'react'
import { API, addressOf, type Stage, type TrayItem } from '@oak-gauge/contract'
import { problemOf, useActOnRunMutation, useAddSetupMutation, useScannersQuery, useStartMappingMutation } from '../../api.ts'
import { useOpenJob } from '../../job/useJob.ts'
import { useStep } from '../../job/useStep.ts'
import { Numbers, StepProblem, Warnings, WorkCard } from '../../job/WorkCard.tsx'
import { Amount } from '../../looks/Amount.tsx'
import { ProblemBox } from '../../looks/ProblemBox.tsx'
import { ColdNote, isCold } from '../../scanners/Cold.tsx'
import { NotConnected, WithScanner } from '../../scanners/WhichScanner.tsx'
import { BringList, ListTroubles } from './BringList.tsx'
import { MapRunning } from './MapRunning.tsx'
import { MapTable } from './MapTable.tsx'
import { TravelPicture } from './TravelPicture.tsx'
import { useMapping } from './useMapping.ts'
import { t } from '../../words/t.ts'

/** Markers recorded by themselves, setup by setup. */
export function MapPart({ head, go, onCheck }: { head: ReactNode; go(s: Stage): void; onCheck: (() => void) | null }) {
  const { state, path, passes } = useOpenJob()
  const { data: scanners } = useScannersQuery()
  const fit = scanners?.filter((s) => s.kind !== 'arm-line') ?? []
  const scanner = fit.find((s) => s.id === state.job.scanner) ?? fit.find((s) => s.kind === 'laser-lines') ?? fit.at(0)
  const run = useMapping(scanner?.id ?? null)
  const maps = state.tray.filter((i) => i.role === 'marker-map')
  const [setupId, setSetup] = useState<string | null>(null)
  const setup = state.setups.find((s) => s.id === setupId) ?? state.setups.find((s) => !maps.some((m) => m.setup === s.id)) ?? state.setups.at(-1)
  const own = maps.findLast((m) => m.setup === setup?.id)
  const others = maps.filter((m) => m.setup !== setup?.id)
  const [travel, setTravel] = useState<boolean | null>(null)
  const [again, setAgain] = useState(false)
  const [target, setTarget] = useState(0.02)
  const [anyway, setAnyway] = useState(false)
  const [start, { error, isLoading }] = useStartMappingMutation()
  const [addSetup] = useAddSetupMutation()
  const [act] = useActOnRunMutation()
  const join = useStep()
  const problem = problemOf(error)
  const step = own && path.find((s) => s.id === own.step)
  const made = path.findLast((s) => s.operation === 'map-markers' || s.operation === 'import-markers')

  if (scanner && run && run.job === state.job.id && run.phase !== 'done' && run.phase !== 'failed')
    return <MapRunning head={head} run={run} scanner={scanner} />
  const elsewhere = run !== null && run.phase !== 'done' && run.phase !== 'failed'

  const cold = isCold(scanner)
  const connected = scanner?.link === 'connected'
  const begin = (known: TrayItem | null) => {
    if (!scanner || !setup) return
    setAgain(false)
    // the result is looked at where it was made
    setSetup(setup.id)
    void start({ job: state.job.id, body: { scanner: scanner.id, setup: setup.id, known: known?.slot ?? null, target, cold: cold && anyway } })
  }
  const pick = (
    <div className="field">
      <label htmlFor="m-setup">{t('Setup')}</label>
      <span className="abreast">
        <Select
          id="m-setup"
          className="control narrow"
          value={setup?.id ?? null}
          onChange={(v) => {
            setSetup(v)
            setTravel(null)
          }}
          options={state.setups.map((s) => ({ value: s.id, label: `${s.name}${maps.some((m) => m.setup === s.id) ? '' : t(', no map')}` }))}
        />
        <Button
          className="beside"
          title={t('Another setup: the part was turned or moved in between')}
          onClick={() => void addSetup({ id: state.job.id, name: t('Setup {{setups}}', { setups: state.setups.length + 1 }) })}
        >
          {t('New')}
        </Button>
      </span>
    </div>
  )
  if (own && !again) {
    const anchor = others.at(0)
    return (
      <WorkCard
        question={t('{{own}} markers of {{name}} are known', { own: own.count, name: setup?.name ?? '' })}
        about={t('Every pass of this setup that sees them knows its place. Another setup has a map of its own.')}
        foot={
          <>
            <Button type="primary" onClick={() => go('Capture')}>
              {t('Go on to Capture')}
            </Button>
            {onCheck && <Button onClick={onCheck}>{t('Compare with the plan')}</Button>}
          </>
        }
      >
        {head}
        {pick}
        {step && <Numbers step={step} limit={8} />}
        {step && <Warnings step={step} />}
        {made && made !== step && <Warnings step={path.findLast((s) => s.operation === 'join-markers')} />}
        <div className="abreast wrap">
          <Button size="small" onClick={() => setAgain(true)}>
            {t('Map again')}
          </Button>
          {anchor && (
            <Button
              size="small"
              disabled={join.running}
              title={t('Moves this setup and its passes so that the markers both share fall together')}
              onClick={() =>
                void join.run({
                  operation: 'join-markers',
                  inputs: { anchor: [anchor.slot], loose: [own.slot], passes: passes.filter((p) => p.setup === setup?.id).map((p) => p.slot) },
                })
              }
            >
              {t('Bring together with {{name}}', { name: state.setups.find((s) => s.id === anchor.setup)?.name ?? anchor.name })}
            </Button>
          )}
          <Button size="small" href={addressOf(API.file, { id: own.id }, { format: 'csv' })}>
            {t('As a list')}
          </Button>
          <BringList setup={setup?.id} />
        </div>
        <StepProblem of={join} />
        <ListTroubles />
        {problem && <ProblemBox problem={problem} />}
        <MapTable item={own} />
      </WorkCard>
    )
  }
  const asks = others.length > 0 && !own
  const known = own ?? (travel ? (others.at(-1) ?? null) : null)
  return (
    <WorkCard
      question={
        asks && travel === null
          ? t('The part lies otherwise now. Did the markers travel with it?')
          : t('Which markers does {{name}} have?', { name: setup?.name ?? t('the setup') })
      }
      about={
        asks && travel === null
          ? undefined
          : t('They are recorded by themselves, from all sides; then all frames and all markers are solved together. The surface comes later.')
      }
      foot={
        <>
          <Button type="primary" disabled={!connected || elsewhere || isLoading || (cold && !anyway) || (asks && travel === null)} onClick={() => begin(known)}>
            {known ? t('Go on from that map') : t('Record the markers')}
          </Button>
          {own && <Button onClick={() => setAgain(false)}>{t('Back to the map')}</Button>}
        </>
      }
    >
      {head}
      {pick}
      {asks && (
        <div className="choose travel" role="radiogroup" aria-label={t('Did the markers travel with the part')}>
          {([true, false] as const).map((travels) => (
            <div className={travel === travels ? 'choice on' : 'choice'} key={String(travels)}>
              <button type="button" role="radio" aria-checked={travel === travels} className="plain" onClick={() => setTravel(travels)}>
                <TravelPicture stuck={travels} />
                <b>{travels ? t('Yes, they stick on it') : t('No, they stayed on the table')}</b>
                <span className="hint">
                  {travels ? t('the map of the other setup holds; only its place is new') : t('this setup begins with an empty map')}
                </span>
              </button>
            </div>
          ))}
        </div>
      )}
      {own && <p className="hint">{t('What is known stays: markers that moved since are named, passes recorded before stay valid.')}</p>}
      {scanner && <WithScanner scanner={scanner} />}
      <Amount label={t('Good enough at')} value={target} usual={0.02} onChange={setTarget} reason={t('expanded uncertainty of each marker (k = 2)')} />
      {scanner && !connected && <NotConnected scanner={scanner} />}
      {scanner && connected && cold && <ColdNote scanner={scanner} anyway={t('Map anyway')} checked={anyway} onChange={setAnyway} />}
      {elsewhere && scanner && (
        <div className="note">
          {t('The markers of another job are being mapped with {{name}}.', { name: scanner.name })}{' '}
          <Button size="small" onClick={() => void act({ id: scanner.id, what: 'cancel' })}>
            {t('Give that up')}
          </Button>
        </div>
      )}
      <div className="abreast">
        <BringList setup={setup?.id} />
      </div>
      <ListTroubles />
      {problem && <ProblemBox problem={problem} />}
    </WorkCard>
  )
}
