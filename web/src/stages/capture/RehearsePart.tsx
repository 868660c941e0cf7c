import { Button, Checkbox } from 'antd'
import { useState, type ReactNode } from 'react'
import { lastOf, type ScannerSummary } from '@oak-gauge/contract'
import type { rehearsedScanner } from '@oak-gauge/core/operations/rehearse-recording.ts'
import type { z } from 'zod'
import { useScannerQuery } from '../../api.ts'
import { UPS } from '@oak-gauge/core/markers/plan/shape.ts'
import { useOpenJob } from '../../job/useJob.ts'
import { useStep } from '../../job/useStep.ts'
import { StepProblem, WorkCard } from '../../job/WorkCard.tsx'
import { Amount } from '../../looks/Amount.tsx'
import { Choice } from '../../looks/Choice.tsx'
import { worstDistance } from '../../scanners/health.tsx'
import { Foretold } from './Foretold.tsx'
import { useProposal } from './useProposal.ts'
import { t } from '../../words/t.ts'

type By = 'markers' | 'shape' | 'both' | 'own'
type Surface = 'matte' | 'dark' | 'glossy'
const SPACING = 1
const SECONDS = 40
const SHOTS = 8
const TOLERANCE = 0.2

/** A recording that nobody has made yet: what would come of it. */
export function RehearsePart({ head, scanners, onRecord }: { head: ReactNode; scanners: ScannerSummary[]; onRecord(): void }) {
  const { state, path, nominals, meshes } = useOpenJob()
  const shapes = [...nominals, ...meshes]
  const plan = state.tray.findLast((i) => i.role === 'marker-plan')
  const done = lastOf(path, 'rehearse-recording')
  const [shapeSlot, setShape] = useState<string | null>(null)
  const shape = shapes.find((i) => i.slot === shapeSlot) ?? shapes[0]
  const [chosen, choose] = useState<string | null>(null)
  // of the brief, where that says one
  const decided = scanners.find((s) => s.id === chosen) ?? scanners.find((s) => s.id === state.job.scanner)
  const [byChosen, setBy] = useState<By | null>(null)
  const [spacingChosen, setSpacing] = useState<number | null>(null)
  const [exposureChosen, setExposure] = useState<number | null>(null)
  const [seconds, setSeconds] = useState(SECONDS)
  const [shots, setShots] = useState(SHOTS)
  const usual = state.job.tolerance ?? TOLERANCE
  const [width, setWidth] = useState<number | null>(null)
  const [surface, setSurface] = useState<Surface>(state.job.surface === 'see-through' ? 'matte' : state.job.surface)
  const [table, setTable] = useState(false)
  const [again, setAgain] = useState(false)
  const step = useStep()
  const up = UPS.find((u) => u === lastOf(path, 'plan-markers')?.params['up']) ?? '+z'
  const proposal = useProposal(shape, up, scanners, {
    limit: (width ?? usual) / 2,
    surface,
    planned: plan !== undefined,
    chosen: decided ? scanners.indexOf(decided) : null,
  })
  const proposed = scanners[proposal?.scanner?.value ?? -1] as ScannerSummary | undefined
  const scanner = decided ?? proposed ?? scanners.find((s) => s.kind === 'laser-lines') ?? scanners[0]
  const { data: whole } = useScannerQuery(scanner?.id ?? '', { skip: !scanner })
  const usualBy = proposal?.by.value ?? (plan ? 'markers' : 'shape')
  const own = scanner?.own === true
  // of another scanner it may have been
  const by = byChosen === 'own' && !own ? usualBy : (byChosen ?? usualBy)
  const lacking = !plan && (by === 'markers' || (by === 'both' && !own))
  const word = scanner?.turntable ? t('its turntable') : t('its arm')
  const usualSpacing = proposal?.spacing.value ?? SPACING
  const spacing = spacingChosen ?? usualSpacing
  const usualExposure = proposal?.exposure.value ?? 1
  const exposure = exposureChosen ?? usualExposure
  const rehearse = async () => {
    if (!shape || !whole) return
    const { design, range, kind, moving, own: says, turntable, arm } = whole.spec
    const worst = worstDistance(whole)
    const sees: z.input<typeof rehearsedScanner> = {
      optics: design,
      range,
      pattern: kind === 'laser-lines' ? 'cross' : arm ? 'line' : 'area',
      way: turntable ? 'table' : arm ? 'arm' : 'hand',
      ...(says ? { own: says } : {}),
      colour: whole.spec.colour,
      ...moving,
      distance: worst ? { error: worst.value, U: worst.uncertainty } : null,
    }
    const ran = await step.run({
      operation: 'rehearse-recording',
      inputs: { shape: [shape.slot], ...(plan && (by === 'markers' || (by === 'both' && !own)) ? { plan: [plan.slot] } : {}) },
      params: { by, up, spacing, seconds, shots, surface, exposure, table, limit: (width ?? usual) / 2, scanner: sees },
    })
    if (ran) setAgain(false)
  }
  if (done && !again && !step.running && !step.problem)
    return (
      <WorkCard
        question={t('What would come of it?')}
        about={t('Recorded in simulation, solved and inspected by the same steps as a real pass. Nothing of it enters the job.')}
        foot={
          <>
            <Button type="primary" onClick={onRecord}>
              {t('Record it')}
            </Button>
            <Button onClick={() => setAgain(true)}>{t('Rehearse otherwise')}</Button>
          </>
        }
      >
        {head}
        <Foretold step={done} nominal={nominals.find((n) => done.inputs['shape']?.includes(n.slot))} />
      </WorkCard>
    )
  return (
    <WorkCard
      question={t('What would come of it?')}
      about={t('Before anything is stuck or sprayed: what will be covered, where tracking will be weak, and how well each face will be known.')}
      foot={
        <>
          <Button type="primary" disabled={!shape || !whole || step.running || lacking} onClick={() => void rehearse()}>
            {t('Rehearse with {{name}}', { name: scanner?.name ?? t('a scanner') })}
          </Button>
          {done && <Button onClick={() => setAgain(false)}>{t('Back to the last one')}</Button>}
        </>
      }
    >
      {head}
      {shapes.length > 1 && (
        <Choice
          id="h-shape"
          label={t('Part')}
          value={shape?.slot ?? null}
          onChange={setShape}
          options={shapes.map((i) => ({ value: i.slot, label: i.name }))}
        />
      )}
      {!shape && <p className="note">{t('A rehearsal needs the part: bring in its nominal, or an earlier mesh.')}</p>}
      <Choice id="h-scanner" label={t('Scanner')} value={scanner?.id ?? null} onChange={choose} options={scanners.map((s) => ({ value: s.id, label: s.name }))}>
        {proposed && proposal?.scanner && <Why why={proposal.scanner.why} back={scanner === proposed ? null : () => choose(proposed.id)} />}
        {scanner && !worstDistance(scanner) && (
          <span className="hint">{t('It was not verified since it was calibrated: how far it is off is not known.')}</span>
        )}
      </Choice>
      <Choice<By>
        id="h-by"
        label={t('Held by')}
        value={by}
        onChange={setBy}
        options={[
          { value: 'markers', label: t('markers, as planned') },
          { value: 'shape', label: t('shape') },
          { value: 'both', label: own ? t('{{what}}, and shape', { what: word }) : t('markers and shape') },
          ...(own ? [{ value: 'own' as const, label: t('{{what}} alone', { what: word }) }] : []),
        ]}
      >
        {proposal && <Why why={proposal.by.why} back={by === usualBy ? null : () => setBy(null)} />}
        {lacking && <span className="hint across">{t('No markers are planned: plan them under Mark.')}</span>}
        {by === 'shape' && scanner?.kind === 'laser-lines' && (
          <span className="reason">{t('Lines alone hardly hold a frame by its shape: with {{name}}, map markers first (Mark).', { name: scanner.name })}</span>
        )}
      </Choice>
      <Choice<Surface>
        id="h-surface"
        label={t('Surface')}
        value={surface}
        onChange={setSurface}
        options={[
          { value: 'matte', label: t('matte') },
          { value: 'dark', label: t('dark') },
          { value: 'glossy', label: t('glossy') },
        ]}
      />
      <Amount
        label={t('Tolerance')}
        value={width ?? usual}
        usual={usual}
        onChange={setWidth}
        reason={state.job.tolerance ? t('as the brief says: full width') : t('full width; the brief says none')}
      />
      <Amount label={t('Spacing')} value={spacing} usual={usualSpacing} onChange={setSpacing} reason={proposal?.spacing.why ?? t('of the surface')} />
      <Amount
        label={t('Exposure')}
        unit=""
        value={exposure}
        usual={usualExposure}
        onChange={setExposure}
        reason={proposal?.exposure.why ?? t('1: matt white at the ideal distance is well exposed')}
      />
      {scanner?.turntable ? (
        <Amount label={t('Shots')} unit="" value={shots} usual={SHOTS} onChange={setShots} reason={t('once round, at equal angles')} />
      ) : (
        scanner?.kind !== 'arm-line' && (
          <Amount label={t('Duration')} unit="s" value={seconds} usual={SECONDS} onChange={setSeconds} reason={t('once round the part')} />
        )
      )}
      <Checkbox checked={table} onChange={(e) => setTable(e.target.checked)}>
        {t('The table is measured as well')}
      </Checkbox>
      {proposal && (
        <p className="hint" data-setups={proposal.setups.value}>
          {t('Setups: {{n}}, one pass each.', { n: proposal.setups.value })} {proposal.setups.why}
        </p>
      )}
      <StepProblem of={step} />
    </WorkCard>
  )
}

/** Why it is so proposed; where something else was chosen, a click puts it back. */
function Why({ why, back }: { why: string; back: (() => void) | null }) {
  return (
    <span className="hint across">
      {back && (
        <button type="button" className="changed" title={t('Put back what is proposed')} onClick={back}>
          {t('changed')}
        </button>
      )}{' '}
      {why}
    </span>
  )
}
