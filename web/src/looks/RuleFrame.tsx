import type { StageState } from '@oak-gauge/contract'
import { Brand } from './Brand.tsx'
import { STATE_WORDS, StageMark } from './StageMark.tsx'

const TICKS = 10

/** The measuring rule at the left: its long marks are the parts of the work, the pointer shows the one at hand. */
export function RuleFrame<N extends string>({
  label,
  marks,
  at,
  go,
}: {
  label: string
  marks: readonly { name: N; state: StageState }[]
  at: N
  go(n: N): void
}) {
  const y = (i: number) => (100 * (i + 0.5)) / marks.length
  const ticks = marks.length * TICKS
  return (
    <div className="rule">
      <Brand />
      <nav aria-label={label}>
        <svg className="ticks" viewBox={`0 0 14 ${ticks}`} preserveAspectRatio="none" aria-hidden="true">
          {Array.from({ length: ticks }, (_, i) => {
            const k = (i + TICKS / 2) % TICKS
            return (
              <line
                key={i}
                x1={k === 0 ? 0 : k === 5 ? 5 : 8}
                x2="14"
                y1={i}
                y2={i}
                stroke="var(--oak)"
                strokeWidth={k === 0 ? 1.6 : 0.9}
                vectorEffect="non-scaling-stroke"
              />
            )
          })}
        </svg>
        {marks.map(({ name, state }, i) => (
          <button
            key={name}
            type="button"
            className="stage"
            style={{ top: `${y(i)}%` }}
            aria-current={name === at ? 'step' : undefined}
            title={`${name}: ${STATE_WORDS[state]}`}
            onClick={() => go(name)}
          >
            {name}
            <span className="visually-hidden">, {STATE_WORDS[state]}</span>
            <svg width="34" height="20" aria-hidden="true">
              <line x1="14" x2="34" y1="10" y2="10" stroke="var(--deep)" strokeWidth="1.5" />
              <g transform="translate(2 4)">
                <StageMark state={state} />
              </g>
            </svg>
          </button>
        ))}
        <svg className="pointer" style={{ top: `${y(marks.findIndex((m) => m.name === at))}%` }} viewBox="0 0 13 22" aria-hidden="true">
          <path d="M13 0v22L0 11z" fill="currentColor" />
        </svg>
      </nav>
    </div>
  )
}
