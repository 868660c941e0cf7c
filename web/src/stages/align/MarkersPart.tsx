import { Button } from 'antd'
import type { TrayItem } from '@oak-gauge/contract'
import { useOpenJob } from '../../job/useJob.ts'
import { useStep } from '../../job/useStep.ts'
import { Numbers, StepProblem, Warnings, WorkCard } from '../../job/WorkCard.tsx'
import type { SidesProps } from './ShapePart.tsx'
import { t } from '../../words/t.ts'

/** Marker maps of the setups that have passes: what an adjustment can use. Of a single setup there is nothing to compare. */
export function setupMaps(tray: TrayItem[]): TrayItem[] {
  const maps = tray.filter((i) => i.role === 'marker-map' && tray.some((p) => p.role === 'pass' && p.setup === i.setup))
  return new Set(maps.map((m) => m.setup)).size > 1 ? maps : []
}

/** The loose setup is laid on another by the markers that both have. */
export function MarkersPart({ head, loose, looseMaps, onDone, maps }: SidesProps & { maps: TrayItem[] }) {
  const { path, state } = useOpenJob()
  const step = useStep()
  const own = maps.find((m) => looseMaps.includes(m))
  const other = maps.find((m) => m.setup !== own?.setup)
  const last = path.findLast((s) => s.operation === 'join-markers' && own !== undefined && s.inputs['loose']?.[0] === own.slot)
  const nameOf = (m: TrayItem | undefined) => state.setups.find((s) => s.id === m?.setup)?.name ?? ''
  const run = () => {
    if (own && other) void step.run({ operation: 'join-markers', inputs: { anchor: [other.slot], loose: [own.slot], passes: loose.map((p) => p.slot) } })
  }
  return (
    <WorkCard
      question={t('Do the same markers sit on the part in both setups?')}
      about={t('The distances between markers tell which are the same. They hold what the surface does not: thin sheets, prisms, turned parts.')}
      foot={
        <>
          {last && (
            <Button type="primary" onClick={onDone}>
              {t('On to all passes')}
            </Button>
          )}
          <Button type={last ? 'default' : 'primary'} disabled={step.running || !own || !other} onClick={run}>
            {t('Align by markers')}
          </Button>
        </>
      }
    >
      {head}
      {own && other ? (
        <p className="hint">{t('{{n}} markers of {{own}}, {{m}} of {{other}}.', { n: own.count, own: nameOf(own), m: other.count, other: nameOf(other) })}</p>
      ) : (
        <p className="hint">{t('The loose setup has no markers. Record them in Mark, or bring in a list there.')}</p>
      )}
      <StepProblem of={step} />
      {last && !step.running && (
        <>
          <h3>{t('Found')}</h3>
          <Numbers step={last} limit={4} />
          <Warnings step={last} />
        </>
      )}
    </WorkCard>
  )
}
