import { Modal } from 'antd'
import { useState } from 'react'
import { setSingleKeys, singleKeys } from './singlekeys.ts'

const KEYS: [string, string][] = [
  ['Space', 'the main button of the card'],
  ['Z', 'step back'],
  ['Shift Z', 'step forward'],
  ['1 – 6', 'front, right, back, left, above, below'],
  ['F', 'frame everything'],
  ['[  ]', 'nudge the setting by the shown step'],
  ['L', 'ledger'],
  ['Ctrl K', 'find any action'],
  ['?', 'this list'],
  ['Drag', 'turn the view; while selecting: draw a loop, with Alt one that takes away'],
  ['Right drag', 'shift the view'],
  ['Wheel', 'nearer, further'],
  ['Double click', 'turn about this place from now on'],
  ['Arrows', 'in the view (Tab leads there): turn it; while something is to be picked: move the cursor, with Shift in leaps'],
  ['Enter', 'pick what lies under the cursor; of a loop: set a corner, the last one twice'],
  ['+  −', 'nearer, further'],
]

export function KeysHelp({ onClose }: { onClose(): void }) {
  const [on, setOn] = useState(singleKeys)
  return (
    <Modal open title="Keys" footer={null} onCancel={onClose}>
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
        Keys that are pressed alone do something
      </label>
    </Modal>
  )
}
