import type { ReactNode } from 'react'
import { t } from '../words/t.ts'

export interface CardFrame {
  question: string
  about?: ReactNode
  children?: ReactNode
  foot?: ReactNode
}

/** The frame of every work card: one question, what matters, what will happen, one main button. */
export function Card({ question, about, children, foot }: CardFrame) {
  return (
    <aside className="card" aria-label={t('Work card')}>
      <div className="scroll">
        <h2>{question}</h2>
        {about && <p className="soft">{about}</p>}
        {children}
      </div>
      {foot && <div className="foot">{foot}</div>}
    </aside>
  )
}
