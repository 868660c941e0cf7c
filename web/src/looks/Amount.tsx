import { Input } from 'antd'
import { useId, useState, type ReactNode } from 'react'
import { formatLength, parseLength } from './length.ts'
import { fixed } from './quantity.ts'
import { t } from '../words/t.ts'

interface AmountProps {
  label: string
  /** null: nothing is given yet */
  value: number | null
  onChange(v: number): void
  /** the field may be emptied again */
  onClear?(): void
  unit?: 'mm' | '%' | 's' | ''
  /** shown as a small "changed" mark that puts it back */
  usual?: number
  reason?: ReactNode
  /** arrow keys and [ ] nudge by this */
  step?: number
  plusMinus?: boolean
  positive?: boolean
}

/** A number with its unit and its reason. Lengths are understood as people type them. What is no number stays in the field and says so. */
export function Amount({ label, value, onChange, onClear, unit = 'mm', usual, reason, step, plusMinus, positive = true }: AmountProps) {
  const id = useId()
  const shown = value === null ? '' : unit === 'mm' ? formatLength(value) : String(value)
  const [text, setText] = useState(shown)
  const [wrong, setWrong] = useState(false)
  const [before, setBefore] = useState(shown)
  // with the value, and not after it was drawn: who types by then would find something else in the field
  if (before !== shown) {
    setBefore(shown)
    setText(shown)
    setWrong(false)
  }
  const take = (t: string) => {
    if (t.trim() === '' && (value === null || onClear)) {
      setWrong(false)
      if (value !== null) onClear?.()
      return
    }
    const v = unit === 'mm' ? parseLength(t) : Number(t.replace(/[\s\u202f]/g, '').replace(',', '.'))
    if (v === null || !Number.isFinite(v) || (positive && v <= 0)) return setWrong(true)
    setWrong(false)
    if (v === value) setText(shown)
    else onChange(v)
  }
  const changed = usual !== undefined && value !== null && Math.abs(usual - value) > 1e-9
  return (
    <div className="field">
      <label htmlFor={id}>
        {label}
        {changed && (
          <button
            type="button"
            className="changed"
            title={t('Back to {{usual}} {{unit}}', { usual: unit === 'mm' ? formatLength(usual) : usual, unit })}
            onClick={() => onChange(usual)}
          >
            {t('changed')}
          </button>
        )}
      </label>
      <Input
        id={id}
        className="amount"
        value={text}
        status={wrong ? 'error' : ''}
        prefix={plusMinus ? '±' : undefined}
        suffix={<span className="soft">{unit}</span>}
        onChange={(e) => setText(e.target.value)}
        onBlur={() => take(text)}
        onKeyDown={(e) => {
          if (e.key === 'Enter') take(text)
          if (step && (e.key === 'ArrowUp' || e.key === 'ArrowDown')) {
            e.preventDefault()
            onChange(Number(fixed((value ?? 0) + (e.key === 'ArrowUp' ? step : -step), 6)))
          }
        }}
      />
      {wrong ? (
        <span className="reason" role="alert">
          {unit === 'mm' ? t('A length, such as 0.1 or 4 in.') : t('A number above 0.')}
        </span>
      ) : (
        reason && <span className="reason">{reason}</span>
      )}
    </div>
  )
}
