import { Button, Segmented } from 'antd'
import { useState } from 'react'
import { lastOf, type TrayItem } from '@oak-gauge/contract'
import { useOpenJob } from '../../job/useJob.ts'
import { useStep } from '../../job/useStep.ts'
import { Numbers, StepProblem, Warnings } from '../../job/WorkCard.tsx'
import { Amount } from '../../looks/Amount.tsx'
import { count } from '../../looks/quantity.ts'
import { t } from '../../words/t.ts'

/** What can be done to a mesh, merged here or brought in. */
export function MeshTools({ mesh, open = false }: { mesh: TrayItem; open?: boolean }) {
  return (
    <>
      <Gaps mesh={mesh} open={open} />
      <Fewer mesh={mesh} open={open} />
    </>
  )
}

function Gaps({ mesh, open }: { mesh: TrayItem; open: boolean }) {
  const { path, busy } = useOpenJob()
  const [size, setSize] = useState(5)
  const step = useStep()
  const last = lastOf(path, 'close-gaps')
  return (
    <details className="fine" open={open || !!last}>
      <summary>{t('Gaps of the mesh')}</summary>
      <Amount
        label={t('Close gaps up to')}
        value={size}
        usual={5}
        onChange={setSize}
        reason={t('across; by a membrane, flagged not measured. The measured part stays as it is.')}
      />
      <Button disabled={step.running || !!busy} onClick={() => void step.run({ operation: 'close-gaps', inputs: { mesh: [mesh.slot] }, params: { size } })}>
        {t('Close gaps')}
      </Button>
      <StepProblem of={step} />
      {last && !step.running && (
        <>
          <Numbers step={last} />
          <Warnings step={last} />
        </>
      )}
    </details>
  )
}

function Fewer({ mesh, open }: { mesh: TrayItem; open: boolean }) {
  const { path, busy } = useOpenJob()
  const [by, setBy] = useState<'deviation' | 'count'>('deviation')
  const [deviation, setDeviation] = useState(0.02)
  const [triangles, setTriangles] = useState(200_000)
  const step = useStep()
  const last = lastOf(path, 'reduce')
  return (
    <details className="fine" open={open || !!last}>
      <summary>{t('Fewer triangles')}</summary>
      <Segmented
        block
        value={by}
        onChange={setBy}
        options={[
          { value: 'deviation', label: t('By deviation') },
          { value: 'count', label: t('By count') },
        ]}
      />
      {by === 'deviation' ? (
        <Amount
          label={t('Permitted deviation')}
          value={deviation}
          usual={0.02}
          onChange={setDeviation}
          reason={t('from the unreduced mesh; measured afterwards, not assumed')}
        />
      ) : (
        <Amount
          label={t('Triangles')}
          unit=""
          value={triangles}
          usual={200_000}
          onChange={(v) => setTriangles(Math.round(v))}
          reason={t('of {{mesh}}', { mesh: count(mesh.count) })}
        />
      )}
      <Button
        disabled={step.running || !!busy}
        onClick={() => void step.run({ operation: 'reduce', inputs: { mesh: [mesh.slot] }, params: by === 'deviation' ? { deviation } : { triangles } })}
      >
        {t('Reduce')}
      </Button>
      <StepProblem of={step} />
      {last && !step.running && <Numbers step={last} />}
    </details>
  )
}
