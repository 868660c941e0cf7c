import { Button } from 'antd'
import { t } from '../words/t.ts'

/** mm a step */
const STEP = 40

/** The virtual hand of a stand-in: a path by itself, or step by step. */
export function VirtualHand({
  path,
  moves,
  turntable = false,
  lost = false,
  send,
}: {
  path: number | null
  /** it can be led now */
  moves: boolean
  turntable?: boolean
  /** it can be led back to where it knew its place */
  lost?: boolean
  send(what: string, body?: object): void
}) {
  const ways: [string, object][] = [
    ['◂', { right: -STEP }],
    ['▸', { right: STEP }],
    ['▴', { down: -STEP }],
    ['▾', { down: STEP }],
    [t('nearer'), { away: -STEP }],
    [t('farther'), { away: STEP }],
    [t('tilt ▴'), { topAway: -10, down: 60 }],
    [t('tilt ▾'), { topAway: 10, down: -60 }],
  ]
  return (
    <>
      <div className="abreast">
        <Button size="small" disabled={path !== null || !moves} onClick={() => send('path')}>
          {path === null
            ? turntable
              ? t('Turn the table once round')
              : t('Lead it once round')
            : t('On its way, {{path}} %', { path: Math.round(100 * path) })}
        </Button>
        {lost && (
          <Button size="small" disabled={!moves} onClick={() => send('back')}>
            {t('Lead it back')}
          </Button>
        )}
        <Button size="small" onClick={() => send('press')}>
          {t('Press its button')}
        </Button>
        {!turntable && !lost && <span className="hint">{t('or by hand:')}</span>}
      </div>
      {!turntable && (
        <div className="moves">
          {ways.map(([label, body]) => (
            <Button size="small" key={label} disabled={!moves} onClick={() => send('hand', body)}>
              {label}
            </Button>
          ))}
        </div>
      )}
    </>
  )
}
