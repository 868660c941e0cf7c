import type { CalibrationRun, HandRequest } from '@oak-gauge/contract'

type Way = 'away' | 'right' | 'down' | 'topAway' | 'rightAway' | 'turn'
/** each movement: words for plus and minus, unit, the amount within which it is good, one nudge */
const WAYS: [Way, string, string, string, number, number][] = [
  ['away', 'further away', 'nearer', 'mm', 20, 10],
  ['right', 'to the right', 'to the left', 'mm', 20, 10],
  ['down', 'down', 'up', 'mm', 20, 10],
  ['topAway', 'lean the top away', 'lean the top nearer', '°', 6, 5],
  ['rightAway', 'right side away', 'left side away', '°', 6, 5],
  ['turn', 'turn clockwise', 'turn anticlockwise', '°', 30, 15],
]

/** How the plate has to be moved, in words and on a short scale; of a stand-in each line moves it. */
export function Guidance({ run, onHand }: { run: CalibrationRun; onHand?: ((m: HandRequest) => void) | undefined }) {
  const { match } = run
  return (
    <div className="guidance" role="group" aria-label="How to move the plate">
      {WAYS.map(([way, plus, minus, unit, good, nudge]) => {
        const v = match ? match[way] : 0
        const fine = Math.abs(v) <= good
        return (
          <div key={way} className={match && !fine ? 'line off' : 'line'}>
            <span className="words">{!match ? '–' : fine ? `${(v >= 0 ? plus : minus).split(' ').slice(-1)[0]}: good` : v > 0 ? plus : minus}</span>
            <span className="figure">{match && !fine ? `${Math.abs(v).toFixed(0)} ${unit}` : ''}</span>
            <svg viewBox="-50 -7 100 14" aria-hidden="true">
              <line x1="-48" x2="48" y1="0" y2="0" stroke="var(--line)" strokeWidth="2" />
              <path d="M-10 -5v10M10 -5v10" stroke="var(--oak)" strokeWidth="1.6" />
              {match && <circle cx={Math.max(-46, Math.min(46, (10 * -v) / good))} cy="0" r="4.5" fill="var(--deep)" />}
            </svg>
            {onHand && (
              <span className="nudges">
                <button type="button" className="key" aria-label={minus} onClick={() => onHand({ [way]: -nudge })}>
                  −
                </button>
                <button type="button" className="key" aria-label={plus} onClick={() => onHand({ [way]: nudge })}>
                  +
                </button>
              </span>
            )}
          </div>
        )
      })}
    </div>
  )
}
