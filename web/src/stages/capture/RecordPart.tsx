import { Button, Checkbox } from 'antd'
import { useState, type ReactNode } from 'react'
import type { ScannerSummary, StartCapture } from '@oak-gauge/contract'
import { usualExposure } from '@oak-gauge/core/capture/exposing.ts'
import { problemOf, useActOnRunMutation, useStartCaptureMutation } from '../../api.ts'
import { useOpenJob } from '../../job/useJob.ts'
import { WorkCard } from '../../job/WorkCard.tsx'
import { Amount } from '../../looks/Amount.tsx'
import { Choice } from '../../looks/Choice.tsx'
import { ProblemBox } from '../../looks/ProblemBox.tsx'
import { ColdNote, isCold } from '../../scanners/Cold.tsx'
import { NotConnected, WithScanner } from '../../scanners/WhichScanner.tsx'
import type { CardProps } from '../cards.ts'
import { Angles, anglesOf } from './Angles.tsx'
import { LIGHTS, SURFACE } from './LightPart.tsx'
import { SetupField } from './SetupField.tsx'
import { t } from '../../words/t.ts'

type Light = 'set' | 'auto' | (typeof LIGHTS)[number]
const lightOf = (l: Light) => (l === 'set' ? {} : { light: l === 'auto' ? { auto: true } : { exposure: usualExposure(l) } })
type By = NonNullable<StartCapture['by']>
const SPACING = 1
/** mm between two lines that is still one surface: a hand is no machine */
const GAP = 3

/** What is asked before a pass is recorded. busy: it records for another job */
export function RecordPart({
  head,
  scanners,
  chosen,
  choose,
  busy,
  go,
}: CardProps & { head: ReactNode; scanners: ScannerSummary[]; chosen: string | null; choose(scanner: string): void; busy: string | null }) {
  const { state, passes } = useOpenJob()
  const scanner =
    scanners.find((s) => s.id === chosen) ?? scanners.find((s) => s.id === state.job.scanner) ?? scanners.find((s) => s.link === 'connected') ?? scanners.at(0)
  const [setupId, setSetup] = useState<string | null>(null)
  const hasMap = (id: string) => state.tray.some((i) => i.role === 'marker-map' && i.setup === id)
  // where markers were mapped something is about to be recorded
  const setup = state.setups.find((s) => s.id === setupId) ?? state.setups.findLast((s) => hasMap(s.id)) ?? state.setups.at(-1)
  const map = setup !== undefined && hasMap(setup.id)
  const [by, setBy] = useState<By>('auto')
  const [spacing, setSpacing] = useState(SPACING)
  const [anyway, setAnyway] = useState(false)
  const [start, { error, isLoading }] = useStartCaptureMutation()
  const [act] = useActOnRunMutation()
  const problem = problemOf(error)
  const cold = isCold(scanner)
  const connected = scanner?.link === 'connected'
  const own = scanner?.own === true
  const byShape = by === 'shape' || (by === 'auto' && !map && !own)
  const without = (by === 'markers' || (by === 'both' && !own)) && !map
  const inLines = scanner?.kind === 'arm-line'
  const word = scanner?.turntable ? t('its turntable') : t('its arm')
  const { surface } = state.job
  // what the brief says of it; what is matt is left as the scanner is set
  const [light, setLight] = useState<Light>(surface === 'dark' || surface === 'glossy' ? surface : 'set')
  const [table, setTable] = useState(false)
  const [printed, setPrinted] = useState(false)
  const [ordered, setOrdered] = useState(false)
  const [along, setAlong] = useState(SPACING)
  const [gap, setGap] = useState(GAP)
  const [angles, setAngles] = useState(anglesOf(8))
  return (
    <WorkCard
      question={t('What is recorded, and how does it know its place?')}
      about={t('Every frame is kept. Those that cannot be placed with certainty stay out, and none lands in a wrong place.')}
      foot={
        <>
          <Button
            type="primary"
            disabled={!scanner || !setup || !connected || busy !== null || isLoading || (cold && !anyway) || without}
            onClick={() =>
              scanner &&
              setup &&
              void start({
                job: state.job.id,
                body: {
                  scanner: scanner.id,
                  setup: setup.id,
                  by,
                  spacing,
                  angles,
                  table,
                  printed,
                  ...(inLines && ordered ? { ordered: { along, gap } } : {}),
                  cold: cold && anyway,
                  ...lightOf(light),
                },
              })
            }
          >
            {scanner?.turntable ? t('Set up {{name}}', { name: scanner.name }) : t('Aim with {{name}}', { name: scanner?.name ?? t('a scanner') })}
          </Button>
          {passes.length > 0 && <Button onClick={() => go('Clean')}>{t('Go on to Clean')}</Button>}
        </>
      }
    >
      {head}
      <Choice
        id="r-scanner"
        label={t('Scanner')}
        value={scanner?.id ?? null}
        onChange={choose}
        options={scanners.map((s) => ({ value: s.id, label: s.name }))}
      />
      <SetupField id="r-setup" label={t('Setup')} value={setup?.id ?? null} onChange={setSetup} />
      <Choice<By>
        id="r-by"
        label={t('Held by')}
        value={by}
        onChange={setBy}
        options={[
          {
            value: 'auto',
            label: map ? t('its markers (there is a map)') : !own ? t('its shape (there is no map)') : scanner.turntable ? t('its turntable, and shape') : word,
          },
          { value: 'markers', label: t('markers') },
          { value: 'shape', label: t('shape') },
          { value: 'print', label: t('shape and print') },
          { value: 'both', label: map || !own ? t('markers and shape') : t('{{what}}, and shape', { what: word }) },
          ...(own ? [{ value: 'own' as const, label: t('{{what}} alone', { what: word }) }] : []),
        ]}
      >
        {without && <span className="hint">{t('This setup has no map of its markers: make one under Mark.')}</span>}
        {byShape && scanner?.kind === 'laser-lines' && (
          <span className="reason">{t('Lines alone hardly hold a frame by its shape: with {{name}}, map markers first (Mark).', { name: scanner.name })}</span>
        )}
      </Choice>
      <Amount label={t('Spacing')} value={spacing} usual={SPACING} onChange={setSpacing} reason={t('of the surface; it can be chosen again afterwards')} />
      <Choice<Light>
        id="r-light"
        label={t('Light')}
        value={light}
        onChange={setLight}
        options={[
          { value: 'set', label: t('as the scanner is set') },
          { value: 'auto', label: t('by itself') },
          ...LIGHTS.map((s) => ({ value: s, label: t('for a {{surface}} surface', { surface: SURFACE[s] }) })),
        ]}
      >
        {light === surface && <span className="reason">{t('as the brief says')}</span>}
      </Choice>
      {scanner?.standIn && (
        <>
          <Checkbox checked={table} onChange={(e) => setTable(e.target.checked)}>
            {t('The table is measured as well')}
          </Checkbox>
          <Checkbox checked={printed} onChange={(e) => setPrinted(e.target.checked)}>
            {t('The part carries a print')}
          </Checkbox>
        </>
      )}
      {inLines && (
        <>
          <Checkbox checked={ordered} onChange={(e) => setOrdered(e.target.checked)}>
            {t('Its lines as ordered data as well')}
          </Checkbox>
          {ordered && (
            <>
              <Amount label={t('Along a line')} value={along} usual={SPACING} onChange={setAlong} reason={t('from point to point')} />
              <Amount label={t('Widest gap')} value={gap} usual={GAP} onChange={setGap} reason={t('between two lines that is still one surface')} />
            </>
          )}
        </>
      )}
      {scanner?.turntable && <Angles angles={angles} set={setAngles} />}
      {scanner && <WithScanner scanner={scanner} />}
      {scanner && !connected && <NotConnected scanner={scanner} />}
      {scanner && connected && cold && <ColdNote scanner={scanner} anyway={t('Record anyway')} checked={anyway} onChange={setAnyway} />}
      {busy && (
        <div className="note">
          {t('A pass of another job is being recorded.')}{' '}
          <Button size="small" onClick={() => void act({ id: busy, what: 'cancel' })}>
            {t('Give that up')}
          </Button>
        </div>
      )}
      {problem && <ProblemBox problem={problem} />}
    </WorkCard>
  )
}
