import type { CaptureRun } from '@oak-gauge/contract'
import { count, fixed } from '../../looks/quantity.ts'
import { t } from '../../words/t.ts'

const AROUND = [t('right'), t('back right'), t('back'), t('back left'), t('left'), t('front left'), t('front'), t('front right')]
const STRAIGHT = 75

/** From which side a view looks, in the words of the standard views: x to the right, y to the back, z up. */
export function sideOf([x, y, z]: readonly [number, number, number]): string {
  const up = (Math.asin(Math.max(-1, Math.min(1, -z))) * 180) / Math.PI
  if (Math.abs(up) > STRAIGHT) return up > 0 ? t('from above') : t('from below')
  const eighth = Math.round(Math.atan2(-y, -x) / (Math.PI / 4))
  const side = AROUND[(eighth + 8) % 8]
  const degrees = 5 * Math.round(up / 5)
  return degrees ? t('from the {{side}}, {{degrees}}\u00b0 up', { side, degrees: fixed(degrees, 0) }) : t('from the {{side}}, level', { side })
}

/** While it is held: what was not seen, and from where it would be; numbered on the stage. */
export function NextViews({ next, table }: { next: NonNullable<CaptureRun['next']>; table: boolean }) {
  const { views, poor, never } = next
  if (!poor) return <p className="hint">{t('All of it was seen often enough, and ends nowhere in the open.')}</p>
  return (
    <div className="next" data-next={views.length}>
      <b>{t('See it next')}</b>
      <span className="soft">{t('places it would show')}</span>
      <ol>
        {views.map((v, k) => (
          <li key={k}>
            {v.turn === null ? sideOf(v.looks) : t('turned to {{degrees}}\u00b0', { degrees: fixed(v.turn, v.turn % 1 ? 1 : 0) })}{' '}
            <span className="soft">{v.open >= 0.5 ? t('it ends there') : t('seen seldom')}</span>
            <span className="figure soft">{count(v.gain)}</span>
          </li>
        ))}
      </ol>
      {never > 0 && (
        <p className="hint">
          {!table
            ? t('{{never}} of {{poor}} places cannot be seen from where a hand gets to in this setup.', { never: count(never), poor: count(poor) })
            : t('{{never}} of {{poor}} places cannot be seen however the table is turned: lay the part otherwise in another setup.', {
                never: count(never),
                poor: count(poor),
              })}
        </p>
      )}
    </div>
  )
}
