import { Select } from 'antd'
import type { ReactNode } from 'react'

/** One of several, with its label; children: why, and what speaks against it. */
export function Choice<T extends string>({
  id,
  label,
  value,
  onChange,
  options,
  children,
}: {
  id: string
  label: string
  value: T | null
  onChange(v: T): void
  options: { value: T; label: string }[]
  children?: ReactNode
}) {
  return (
    <div className="field">
      <label htmlFor={id}>{label}</label>
      <Select<T> id={id} className="control" value={value} onChange={onChange} options={options} />
      {children}
    </div>
  )
}
