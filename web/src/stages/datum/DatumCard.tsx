import { Button, Select } from 'antd'
import { useEffect, useState } from 'react'
import { lastOf } from '@oak-gauge/contract'
import { useOpenJob } from '../../job/useJob.ts'
import { useMotions } from '../../job/useMotions.ts'
import { useStep } from '../../job/useStep.ts'
import { Numbers, StepProblem, Warnings, WorkCard } from '../../job/WorkCard.tsx'
import { useAppDispatch, useAppSelector } from '../../store.ts'
import { view } from '../../view/viewSlice.ts'
import { surfaceWords } from '../../looks/surface.ts'
import { useSurfacesQuery } from '../../api.ts'
import { Toggle } from '../clean/CleanCard.tsx'
import type { CardProps } from '../cards.ts'
import { t } from '../../words/t.ts'

/** The measured part on its nominal: best fit over chosen faces, or over all. */
export function DatumCard({ go }: CardProps) {
  const { meshes, nominals, path } = useOpenJob()
  const dispatch = useAppDispatch()
  const faces = useAppSelector((s) => s.view.faces)
  const [nominalSlot, setNominal] = useState<string | null>(null)
  const [byShape, setByShape] = useState<boolean | null>(null)
  const step = useStep()
  const nominal = nominals.find((n) => n.slot === nominalSlot) ?? nominals.at(-1)
  const mesh = meshes.at(-1)
  const last = lastOf(path, 'best-fit')
  useMotions(last)
  const choosable = (nominal?.faces ?? 0) > 1
  const slot = nominal?.slot
  const shape = byShape ?? !last
  useEffect(() => {
    if (!slot || !choosable) return
    dispatch(view.pick({ kind: 'faces', slot }))
    return () => void dispatch(view.pick({ kind: 'none' }))
  }, [dispatch, slot, choosable])
  if (!mesh || !nominal)
    return (
      <WorkCard
        question={t('How does the part lie on its nominal?')}
        foot={
          <Button type="primary" onClick={() => go(mesh ? 'Capture' : 'Merge')}>
            {mesh ? t('Bring in a nominal') : t('Go to Merge')}
          </Button>
        }
      >
        <p>
          {mesh
            ? t('There is no nominal yet. Bring a STEP file or a mesh in as nominal; without one, the mesh can be delivered as it is.')
            : t('Here the merged mesh is laid on its nominal. There is no mesh yet.')}
        </p>
        {mesh && <Button onClick={() => go('Deliver')}>{t('Deliver without')}</Button>}
      </WorkCard>
    )
  return (
    <WorkCard
      question={t('How does the part lie on its nominal?')}
      about={
        choosable
          ? t('Click the faces that shall count, such as the machined ones that locate the part. None chosen: all count.')
          : t('This nominal is one surface: all of it counts.')
      }
      foot={
        <>
          {last && (
            <Button type="primary" onClick={() => go('Inspect')}>
              {t('Go on to Inspect')}
            </Button>
          )}
          <Button
            type={last ? 'default' : 'primary'}
            disabled={step.running}
            onClick={() =>
              void step.run({ operation: 'best-fit', inputs: { measured: [mesh.slot], nominal: [nominal.slot] }, params: { faces, byShape: shape } })
            }
          >
            {faces.length ? t('Fit on {{count}} faces', { count: faces.length }) : t('Fit on all faces')}
          </Button>
        </>
      }
    >
      {nominals.length > 1 && (
        <div className="field">
          <label htmlFor="d-nominal">{t('Nominal')}</label>
          <Select
            id="d-nominal"
            className="control"
            value={nominal.slot}
            onChange={setNominal}
            options={nominals.map((n) => ({ value: n.slot, label: n.name }))}
          />
        </div>
      )}
      {choosable && (
        <div className="field">
          <span className="label">{t('Faces that count')}</span>
          <span className="figure" data-faces={faces.length}>
            {t('{{chosen}} of {{faces}}', { chosen: faces.length || t('all'), faces: nominal.faces })}
          </span>
          {faces.length > 0 && (
            <span className="reason">
              <Button size="small" onClick={() => dispatch(view.faces([]))}>
                {t('Count all again')}
              </Button>
            </span>
          )}
        </div>
      )}
      {choosable && faces.length > 0 && <ChosenFaces item={nominal.id} faces={faces} />}
      <Toggle
        label={t('Find the rough pose by shape')}
        value={shape}
        onChange={setByShape}
        reason={t('off: the present pose is nearly right, such as when fitting again')}
      />
      <StepProblem of={step} />
      {last && !step.running && (
        <>
          <Numbers step={last} />
          <Warnings step={last} />
        </>
      )}
    </WorkCard>
  )
}

const SHOWN = 5

/** What was chosen, as the drawing has it. Says nothing of a nominal that came as triangles. */
function ChosenFaces({ item, faces }: { item: string; faces: number[] }) {
  const { data } = useSurfacesQuery(item)
  const known = faces.flatMap((f) => (data?.[f] ? [{ f, words: surfaceWords(data[f]) }] : []))
  const dispatch = useAppDispatch()
  if (known.length === 0) return null
  return (
    <ul className="chosen-faces">
      {known.slice(-SHOWN).map(({ f, words }) => (
        <li key={f} data-face={f}>
          <span className="figure">{words}</span>
          <Button size="small" type="text" aria-label={t('Let go of {{words}}', { words })} onClick={() => dispatch(view.faces(faces.filter((o) => o !== f)))}>
            ×
          </Button>
        </li>
      ))}
      {known.length > SHOWN && <li className="soft">{t('and {{SHOWN}} more', { SHOWN: known.length - SHOWN })}</li>}
    </ul>
  )
}
