import { STAGES, type Stage } from '@oak-gauge/contract'
import { Brand } from '../looks/Brand.tsx'
import { STATE_WORDS, StageMark } from '../looks/StageMark.tsx'
import { useOpenJob } from './useJob.ts'

const TICKS = 10

/** The measuring rule at the left: its long marks are the stages, the pointer shows the one at work. */
export function Rule({ go }: { go(stage: Stage): void }) {
  const { stage, states } = useOpenJob()
  const y = (i: number) => (100 * (i + 0.5)) / STAGES.length
  const ticks = STAGES.length * TICKS
  return (
    <div className="rule">
      <Brand />
      <nav aria-label="Stages">
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
        {STAGES.map((s, i) => (
          <button
            key={s}
            type="button"
            className="stage"
            style={{ top: `${y(i)}%` }}
            aria-current={s === stage ? 'step' : undefined}
            title={`${s}: ${STATE_WORDS[states[s]]}`}
            onClick={() => go(s)}
          >
            {s}
            <span className="visually-hidden">, {STATE_WORDS[states[s]]}</span>
            <svg width="34" height="20" aria-hidden="true">
              <line x1="14" x2="34" y1="10" y2="10" stroke="var(--deep)" strokeWidth="1.5" />
              <g transform="translate(2 4)">
                <StageMark state={states[s]} />
              </g>
            </svg>
          </button>
        ))}
        <svg className="pointer" style={{ top: `${y(STAGES.indexOf(stage))}%` }} viewBox="0 0 13 22" aria-hidden="true">
          <path d="M13 0v22L0 11z" fill="currentColor" />
        </svg>
      </nav>
    </div>
  )
}
