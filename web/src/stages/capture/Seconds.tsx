import { Input } from 'antd'
import { useEffect, useState } from 'react'
import { fixed } from '../../looks/quantity.ts'

/** A moment of a recording, typed. What is none is put back. */
export function Seconds({ label, value, most, onChange }: { label: string; value: number; most: number; onChange(v: number): void }) {
  const shown = fixed(value, 2)
  const [text, setText] = useState(shown)
  useEffect(() => setText(shown), [shown])
  const take = () => {
    const v = Number(text.replace(',', '.'))
    if (text.trim() !== '' && Number.isFinite(v)) onChange(Math.max(0, Math.min(most, v)))
    setText(shown)
  }
  return (
    <Input
      size="small"
      className="seconds"
      aria-label={label}
      title={label}
      value={text}
      onChange={(e) => setText(e.target.value)}
      onBlur={take}
      onKeyDown={(e) => {
        if (e.key === 'Enter') take()
      }}
    />
  )
}
