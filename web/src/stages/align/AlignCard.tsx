import { Button, Segmented, Select } from 'antd'
import { useMemo, useState } from 'react'
import { lastOf } from '@oak-gauge/contract'
import { useOpenJob } from '../../job/useJob.ts'
import { WorkCard } from '../../job/WorkCard.tsx'
import type { CardProps } from '../cards.ts'
import { AdjustPart } from './AdjustPart.tsx'
import { groupsOf } from './groups.ts'
import { MarkersPart, setupMaps } from './MarkersPart.tsx'
import { PairsPart } from './PairsPart.tsx'
import { ShapePart } from './ShapePart.tsx'
import { t } from '../../words/t.ts'

type Part = 'markers' | 'shape' | 'pairs' | 'adjust'

/** Setups come together by markers, by shape or by picked pairs; then all passes are adjusted at once. */
export function AlignCard({ go }: CardProps) {
  const { state, passes, path } = useOpenJob()
  const groups = useMemo(() => groupsOf(state.setups, state.tray, path), [state.setups, state.tray, path])
  // as it was on coming here: a result is looked at before the card goes on
  const [together] = useState(() => lastOf(path, 'align-shape', 'align-pairs', 'align-fine', 'join-markers') !== undefined)
  const [chosen, setPart] = useState<Part | null>(null)
  const [looseId, setLoose] = useState<string | null>(null)
  if (passes.length < 2)
    return (
      <WorkCard
        question={t('How do the passes lie together?')}
        foot={
          <Button type="primary" onClick={() => go(passes.length ? 'Merge' : 'Capture')}>
            {passes.length ? t('Go on to Merge') : t('Go to Capture')}
          </Button>
        }
      >
        <p>{passes.length ? t('There is one pass only: nothing has to be aligned.') : t('Here passes are brought together. There are none yet.')}</p>
      </WorkCard>
    )
  const maps = setupMaps(state.tray)
  const part: Part = groups.length < 2 ? 'adjust' : (chosen ?? (together ? 'adjust' : maps.length ? 'markers' : 'shape'))
  const loose = groups.find((g) => g.id === looseId) ?? groups.at(-1)
  const sides = { anchor: passes.filter((p) => !loose?.passes.includes(p)), loose: loose?.passes ?? [], looseMaps: loose?.maps ?? [] }
  const head = groups.length > 1 && (
    <>
      <Segmented<Part>
        block
        value={part}
        onChange={setPart}
        options={[
          ...(maps.length ? [{ value: 'markers' as const, label: t('Markers') }] : []),
          { value: 'shape', label: t('Shape') },
          { value: 'pairs', label: t('Pairs') },
          { value: 'adjust', label: t('All passes') },
        ]}
      />
      {part !== 'adjust' && (
        <div className="field">
          <label htmlFor="a-loose">{t('Loose')}</label>
          <Select
            id="a-loose"
            className="control"
            value={loose?.id ?? null}
            onChange={setLoose}
            options={groups.map((g) => ({ value: g.id, label: g.name }))}
          />
          <span className="reason">{t('it moves; everything else is the anchor and stays put')}</span>
        </div>
      )}
    </>
  )
  if (part === 'markers') return <MarkersPart head={head} {...sides} maps={maps} onDone={() => setPart('adjust')} />
  if (part === 'shape') return <ShapePart head={head} {...sides} onDone={() => setPart('adjust')} onPairs={() => setPart('pairs')} />
  if (part === 'pairs') return <PairsPart key={loose?.id} head={head} {...sides} onDone={() => setPart('adjust')} />
  return <AdjustPart head={head} go={go} />
}
