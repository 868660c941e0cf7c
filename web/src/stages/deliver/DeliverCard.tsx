import { Button, Segmented } from 'antd'
import { useEffect, useState } from 'react'
import { API, addressOf, lastOf, quantity } from '@oak-gauge/contract'
import type { QuantityId } from '@oak-gauge/core/operations/quantities.ts'
import { useFileSizeQuery } from '../../api.ts'
import { bytes, count, formatValue, fixed } from '../../looks/quantity.ts'
import { useOpenJob } from '../../job/useJob.ts'
import { useStep } from '../../job/useStep.ts'
import { StepProblem, Warnings, WorkCard } from '../../job/WorkCard.tsx'
import { useAppDispatch } from '../../store.ts'
import { view } from '../../view/viewSlice.ts'
import type { CardProps } from '../cards.ts'
import { t } from '../../words/t.ts'

const FORMATS = ['stl', 'ply', 'obj', '3mf'] as const
type Format = (typeof FORMATS)[number]
const ABOUT: Record<Format, string> = {
  stl: t('binary; says mm in its header, where few programs look: tell the next one. No colours, no mark of what was filled'),
  ply: t('binary; says mm in a comment; colours, and what was filled is marked'),
  obj: t('text; says mm in a comment; colours, no mark of what was filled'),
  '3mf': t('zipped; states its unit; no colours, no mark of what was filled'),
}

const FACTS: QuantityId[] = ['area', 'volume', 'open-edges', 'borders', 'pieces', 'edges-of-more-than-two', 'not-measured']

/** The mesh as a file, after a look at what the next program will find in it. */
export function DeliverCard({ go }: CardProps) {
  const { meshes, path, deviation, state, busy } = useOpenJob()
  const dispatch = useAppDispatch()
  const [format, setFormat] = useState<Format>('stl')
  const mesh = meshes.at(-1)
  const facts = useStep()
  const { run } = facts
  const slot = mesh?.slot
  // facts of this very mesh, after its last change
  const known = lastOf(path, 'facts')
  const current =
    known && mesh && known.inputs['mesh']?.includes(mesh.slot) && path.findIndex((s) => s.id === known.id) > path.findIndex((s) => s.id === mesh.step)
      ? known
      : undefined
  const { currentData: size } = useFileSizeQuery({ item: mesh?.id ?? '', format }, { skip: !mesh })
  const compared = lastOf(path, 'deviation')
  const given = compared?.params as { limit?: number; scale?: number } | undefined
  useEffect(() => {
    if (deviation && given) dispatch(view.colours({ map: deviation.slot, limit: given.limit ?? 0.1, scale: given.scale ?? 1 }))
    return () => void dispatch(view.colours({ map: null }))
    // eslint-disable-next-line react-hooks/exhaustive-deps -- once, on coming here
  }, [])
  if (!mesh)
    return (
      <WorkCard
        question={t('What shall be handed over?')}
        foot={
          <Button type="primary" onClick={() => go('Merge')}>
            {t('Go to Merge')}
          </Button>
        }
      >
        <p>{t('Here the mesh leaves as a file, with a look at its size, open edges and unit before. There is no mesh yet.')}</p>
      </WorkCard>
    )
  const v = (id: QuantityId) => quantity(current, id)
  const say = (id: QuantityId) => {
    const q = v(id)
    return q ? `${formatValue(q)}${q.unit ? ` ${q.unit}` : ''}` : '–'
  }
  const number = (id: QuantityId) => Number(v(id)?.value ?? NaN)
  return (
    <WorkCard
      question={t('What shall be handed over?')}
      foot={
        <>
          {deviation && (
            <Button href={addressOf(API.file, { id: deviation.id })} download>
              {t('Deviation table, CSV')}
            </Button>
          )}
          <Button type="primary" href={addressOf(API.file, { id: mesh.id }, { format })} download>
            {t('Save {{format}}', { format: format.toUpperCase() })}
          </Button>
        </>
      }
    >
      <Segmented<Format> block value={format} onChange={setFormat} options={FORMATS.map((f) => ({ value: f, label: f.toUpperCase() }))} />
      <p className="hint">{ABOUT[format]}</p>
      {current ? (
        <>
          <p className="note" data-preflight>
            {t('{{x}} × {{y}} × {{z}} mm, {{triangles}} triangles, {{size}}, {{closed}}, unit mm.', {
              x: fixed(number('size-x'), 1),
              y: fixed(number('size-y'), 1),
              z: fixed(number('size-z'), 1),
              triangles: count(mesh.count),
              size: size ? bytes(size.bytes) : '…',
              closed: number('open-edges') === 0 ? t('closed') : t('{{n}} open edges', { n: count(number('open-edges')) }),
            })}
          </p>
          <dl className="rows" data-evidence="facts">
            {FACTS.map((n) => (
              <div key={n} className="apart">
                <dt>{v(n)?.name}</dt>
                <dd data-quantity={n}>{say(n)}</dd>
              </div>
            ))}
          </dl>
          <Warnings step={current} />
        </>
      ) : (
        <>
          <p>
            {t('{{name}}: {{triangles}} triangles{{size}}.', {
              name: mesh.name,
              triangles: count(mesh.count),
              size: size ? t(', {{size}} as {{format}}', { size: bytes(size.bytes), format: format.toUpperCase() }) : '',
            })}
          </p>
          <Button disabled={!slot || facts.running || !!busy} onClick={() => slot && void run({ operation: 'facts', inputs: { mesh: [slot] } })}>
            {t('Look it over before it goes')}
          </Button>
        </>
      )}
      <StepProblem of={facts} />
      <hr />
      <p className="hint">
        {t('The whole way from files to result, for the next part:')}{' '}
        <a href={addressOf(API.recipe, { id: state.job.id })} download>
          {t('save as recipe')}
        </a>
      </p>
    </WorkCard>
  )
}
