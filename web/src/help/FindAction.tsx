import { Input, Modal } from 'antd'
import { useState } from 'react'
import { t } from '../words/t.ts'

export interface Action {
  name: string
  key?: string
  run(): void
}

/** Every action by its name. */
export function FindAction({ actions, onClose }: { actions: Action[]; onClose(): void }) {
  const [text, setText] = useState('')
  const [at, setAt] = useState(0)
  const words = text.toLowerCase().split(/\s+/).filter(Boolean)
  const found = actions.filter((a) => words.every((w) => a.name.toLowerCase().includes(w)))
  const act = (a: Action | undefined) => {
    if (!a) return
    onClose()
    a.run()
  }
  return (
    <Modal open footer={null} closable={false} onCancel={onClose} className="palette" title={null} aria-label={t('Find any action')}>
      <Input
        autoFocus
        placeholder={t('Find any action')}
        aria-label={t('Find any action')}
        value={text}
        onChange={(e) => {
          setText(e.target.value)
          setAt(0)
        }}
        onKeyDown={(e) => {
          if (e.key === 'ArrowDown') setAt(Math.min(found.length - 1, at + 1))
          else if (e.key === 'ArrowUp') setAt(Math.max(0, at - 1))
          else if (e.key === 'Enter') act(found[at])
          else return
          e.preventDefault()
        }}
      />
      <ul>
        {found.map((a, i) => (
          <li key={a.name}>
            <button type="button" className={`plain${i === at ? ' on' : ''}`} onClick={() => act(a)}>
              <span>{a.name}</span>
              {a.key && <span className="key">{a.key}</span>}
            </button>
          </li>
        ))}
        {!found.length && <li className="soft none-found">{t('No action has that name.')}</li>}
      </ul>
    </Modal>
  )
}
