import type { CalibrationRun, HandRequest } from '@oak-gauge/contract'
import { fixed } from '../../looks/quantity.ts'
import { t } from '../../words/t.ts'

type Way = 'away' | 'right' | 'down' | 'topAway' | 'rightAway' | 'turn'
/** each movement: name, words for plus and minus, unit, one nudge */
const WAYS: [Way, string, string, string, string, number][] = [
  ['away', t('distance'), t('further away'), t('nearer'), 'mm', 10],
  ['right', t('sideways'), t('to the right'), t('to the left'), 'mm', 10],
  ['down', t('height'), t('down'), t('up'), 'mm', 10],
  ['topAway', t('lean'), t('top away'), t('top nearer'), '°', 5],
  ['rightAway', t('swing'), t('right side away'), t('left side away'), '°', 5],
  ['turn', t('turn'), t('clockwise'), t('anticlockwise'), '°', 15],
]

/** How the plate has to be moved, in words and on a short scale; of a stand-in each line moves it. */
export function Guidance({ run, onHand }: { run: CalibrationRun; onHand?: ((m: HandRequest) => void) | undefined }) {
  const { match } = run
  return (
    <div className="guidance" role="group" aria-label={t('How to move the plate')}>
      {WAYS.map(([way, name, plus, minus, unit, nudge]) => {
        const v = match ? match[way] : 0
        const good = match ? match.good[way] : 1
        const fine = Math.abs(v) <= good
        return (
          <div key={way} className={match && !fine ? 'line off' : 'line'} data-movement={way}>
            <span>{name}</span>
            <span className="words">{!match ? '–' : fine ? t('good') : `${fixed(Math.abs(v), 0)}${unit === '°' ? '°' : ' mm'} ${v > 0 ? plus : minus}`}</span>
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
