import type { Problem } from '@oak-gauge/contract'
import type { ReactNode } from 'react'

/** What happened, where, and what to do. */
export function ProblemBox({ problem, children }: { problem: Problem; children?: ReactNode }) {
  return (
    <div className="problem" role="alert">
      <b>{problem.detail}</b>
      {problem.where && <span className="soft">{problem.where}</span>}
      {problem.remedy && <span>{problem.remedy}</span>}
      {children}
    </div>
  )
}
