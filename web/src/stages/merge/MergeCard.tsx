import { Button, Checkbox, Segmented } from 'antd'
import { useState } from 'react'
import { lastOf, quantity } from '@oak-gauge/contract'
import { useOpenJob } from '../../job/useJob.ts'
import { useStep } from '../../job/useStep.ts'
import { Numbers, StepProblem, Warnings, WorkCard } from '../../job/WorkCard.tsx'
import { Amount } from '../../looks/Amount.tsx'
import { formatLength } from '../../looks/length.ts'
import { spacingOf, usualCell } from './cell.ts'
import { MeshTools } from './MeshTools.tsx'
import type { CardProps } from '../cards.ts'
import { t } from '../../words/t.ts'

type Closing = 'open' | 'small' | 'closed'
const CLOSING: Record<Closing, string> = {
  open: t('Holes of the part and what was not seen stay open; only pinholes narrower than three cells are closed, and marked.'),
  small: t('Gaps up to this size are closed, and marked as not measured.'),
  closed: t('Everything is closed, bores of the part only where their ends were not seen.'),
}

/** One mesh out of all passes; then its gaps closed and fewer triangles, where wanted. */
export function MergeCard({ go }: CardProps) {
  const { passes, meshes, path } = useOpenJob()
  const adjusted = lastOf(path, 'adjust')
  const error = quantity(adjusted, 'alignment-worst-pass')?.value
  const least = typeof error === 'number' ? error : 0
  const last = lastOf(path, 'merge')
  const merged = last && meshes.find((m) => m.slot === last.outputs['mesh']?.[0])
  const mesh = merged ?? meshes.at(-1)
  const spacing = spacingOf(passes)
  const usual = usualCell(spacing, least)
  const [cell, setCell] = useState<number | null>(typeof last?.params['cell'] === 'number' ? last.params['cell'] : null)
  const [closing, setClosing] = useState<Closing>('open')
  const [gapSize, setGapSize] = useState(5)
  const [crisp, setCrisp] = useState(last?.params['crisp'] !== false)
  const merge = useStep()
  const size = cell ?? usual
  const tooFine = size < least
  if (!passes.length)
    return (
      <WorkCard
        question={mesh ? t('Is the mesh fit for use?') : t('How fine shall the mesh be?')}
        foot={
          <Button type="primary" onClick={() => go(mesh ? 'Datum' : 'Capture')}>
            {mesh ? t('Go on to Datum') : t('Go to Capture')}
          </Button>
        }
      >
        <p>{mesh ? t('This job came with a mesh: there is nothing to merge.') : t('Here the passes become one mesh. There are none yet.')}</p>
        {mesh && <MeshTools mesh={mesh} open />}
      </WorkCard>
    )
  const run = () =>
    void merge.run({
      operation: 'merge',
      inputs: { passes: passes.map((p) => p.slot) },
      params: { cell: size, closing, ...(closing === 'small' ? { gapSize } : {}), ...(crisp ? {} : { crisp }) },
    })
  return (
    <WorkCard
      question={t('How fine shall the mesh be?')}
      about={
        adjusted
          ? undefined
          : passes.length > 1
            ? t('The passes have not been adjusted jointly: how far they disagree is not known, and the cell size cannot be guarded.')
            : undefined
      }
      foot={
        <>
          {mesh && (
            <Button type={last ? 'primary' : 'default'} onClick={() => go('Datum')}>
              {t('Go on to Datum')}
            </Button>
          )}
          <Button type={last ? 'default' : 'primary'} disabled={merge.running || tooFine} onClick={run}>
            {last ? t('Merge again') : t('Merge {{count}} passes', { count: passes.length })}
          </Button>
        </>
      }
    >
      <Amount
        label={t('Cell size')}
        value={size}
        usual={usual}
        onChange={setCell}
        step={0.05}
        reason={[
          spacing
            ? t('the points lie {{spacing}} mm apart', { spacing: formatLength(Number(spacing.toPrecision(2))) })
            : t('details smaller than this are lost'),
          ...(least ? [t('never finer than the alignment error of {{least}} mm', { least: formatLength(least) })] : []),
        ].join('; ')}
      />
      {tooFine && (
        <p className="note">
          {t('A cell of {{size}} mm is finer than the passes agree ({{least}} mm): their misfit would look like shape.', {
            size: formatLength(size),
            least: formatLength(least),
          })}
        </p>
      )}
      <Segmented<Closing>
        block
        value={closing}
        onChange={setClosing}
        options={[
          { value: 'open', label: t('Open') },
          { value: 'small', label: t('Small gaps') },
          { value: 'closed', label: t('Closed') },
        ]}
      />
      <p className="hint">{CLOSING[closing]}</p>
      {closing === 'small' && <Amount label={t('Gaps up to')} value={gapSize} usual={5} onChange={setGapSize} />}
      <Checkbox checked={crisp} onChange={(e) => setCrisp(e.target.checked)}>
        {t('Crisp edges, where two faces meet at 40° or more')}
      </Checkbox>
      <StepProblem of={merge} />
      {last && !merge.running && (
        <>
          <hr />
          <Numbers
            step={last}
            ids={['triangles', 'cell-size', 'surface-noise', 'crisp-edges', 'open-edges', 'pieces', 'pinholes-closed', 'not-measured']}
            limit={8}
          />
          <Warnings step={last} />
        </>
      )}
      {mesh && <MeshTools mesh={mesh} />}
    </WorkCard>
  )
}
