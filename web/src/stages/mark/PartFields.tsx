import { Select } from 'antd'
import type { TrayItem } from '@oak-gauge/contract'
import type { PlainShape, Up } from '@oak-gauge/core/markers/plan/shape.ts'
import { Amount } from '../../looks/Amount.tsx'
import type { Settings } from './plansettings.ts'
import { t } from '../../words/t.ts'

export const BOX: PlainShape = { kind: 'box', x: 200, y: 120, z: 60 }
const PLATE: PlainShape = { kind: 'plate', x: 250, y: 180, z: 5 }
const CYLINDER: PlainShape = { kind: 'cylinder', diameter: 120, height: 100 }
const UP_WORDS: Record<Up, string> = { '+z': t('z up'), '-z': t('z down'), '+x': t('x up'), '-x': t('x down'), '+y': t('y up'), '-y': t('y down') }

interface Fields {
  settings: Settings
  /** a plain one in place of the part */
  shape: PlainShape | null
  /** what is there of the part */
  shapes: TrayItem[]
  item: TrayItem | undefined
  patch(p: Partial<Settings>): void
  onChoose(slot: string): void
}

/** The part that is planned for: what is known of it, or a plain shape of its size; and how it stands. */
export function PartFields({ settings: s, shape, shapes, item, patch, onChoose }: Fields) {
  return (
    <>
      <div className="field">
        <label htmlFor="m-shape">{t('Part')}</label>
        <Select
          id="m-shape"
          className="control"
          value={shape ? shape.kind : (item?.slot ?? null)}
          onChange={(v) => {
            patch({ shape: v === 'box' ? BOX : v === 'plate' ? PLATE : v === 'cylinder' ? CYLINDER : null })
            onChoose(v)
          }}
          options={[
            ...shapes.map((i) => ({ value: i.slot, label: i.name })),
            { value: 'box', label: t('a box of my size') },
            { value: 'plate', label: t('a plate of my size') },
            { value: 'cylinder', label: t('a cylinder of my size') },
          ]}
        />
      </div>
      {shape && <Dimensions shape={shape} onChange={(v) => patch({ shape: v })} />}
      {!shape && (
        <div className="field">
          <label htmlFor="m-up">{t('It stands with')}</label>
          <Select
            id="m-up"
            className="control"
            value={s.up}
            onChange={(up) => patch({ up })}
            options={Object.entries(UP_WORDS).map(([value, label]) => ({ value, label }))}
          />
        </div>
      )}
    </>
  )
}

function Dimensions({ shape, onChange }: { shape: PlainShape; onChange(s: PlainShape): void }) {
  if (shape.kind === 'cylinder')
    return (
      <>
        <Amount label={t('Diameter')} value={shape.diameter} onChange={(diameter) => onChange({ ...shape, diameter })} />
        <Amount label={t('Height')} value={shape.height} onChange={(height) => onChange({ ...shape, height })} />
      </>
    )
  return (
    <>
      <Amount label={t('Length')} value={shape.x} onChange={(x) => onChange({ ...shape, x })} />
      <Amount label={t('Width')} value={shape.y} onChange={(y) => onChange({ ...shape, y })} />
      <Amount label={shape.kind === 'plate' ? t('Thickness') : t('Height')} value={shape.z} onChange={(z) => onChange({ ...shape, z })} />
    </>
  )
}
