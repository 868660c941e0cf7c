import { Modal } from 'antd'

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
]

export function KeysHelp({ onClose }: { onClose(): void }) {
  return (
    <Modal open title="Keys" footer={null} onCancel={onClose}>
      <div className="keys">
        {KEYS.map(([k, what]) => (
          <div key={k} style={{ display: 'contents' }}>
            <span>
              <span className="key">{k}</span>
            </span>
            <span>{what}</span>
          </div>
        ))}
      </div>
    </Modal>
  )
}
