import { Modal } from 'antd'
import { useState } from 'react'
import { setSingleKeys, singleKeys } from './singlekeys.ts'
import { t } from '../words/t.ts'

const KEYS: [string, string][] = [
  [t('Space'), t('the main button of the card')],
  ['Z', t('step back')],
  ['Shift Z', t('step forward')],
  ['1 – 6', t('front, right, back, left, above, below')],
  ['F', t('frame everything')],
  ['[  ]', t('nudge the setting by the shown step')],
  ['L', 'ledger'],
  ['Ctrl K', t('find any action')],
  ['?', t('this list')],
  [t('Drag'), t('turn the view; while selecting: draw a loop, with Alt one that takes away')],
  [t('Right drag'), t('shift the view')],
  [t('Wheel'), t('nearer, further')],
  [t('Double click'), t('turn about this place from now on')],
  [t('Arrows'), t('in the view (Tab leads there): turn it; while something is to be picked: move the cursor, with Shift in leaps')],
  ['Enter', t('pick what lies under the cursor; of a loop: set a corner, the last one twice')],
  ['+  −', t('nearer, further')],
]

export function KeysHelp({ onClose }: { onClose(): void }) {
  const [on, setOn] = useState(singleKeys)
  return (
    <Modal open title={t('Keys')} footer={null} onCancel={onClose}>
      <div className="keys">
        {KEYS.map(([k, what]) => (
          <div key={k} className="apart">
            <span>
              <span className="key">{k}</span>
            </span>
            <span>{what}</span>
          </div>
        ))}
      </div>
      <label className="abreast single-keys">
        <input
          type="checkbox"
          checked={on}
          onChange={(e) => {
            setSingleKeys(e.target.checked)
            setOn(e.target.checked)
          }}
        />
        {t('Keys that are pressed alone do something')}
      </label>
    </Modal>
  )
}
