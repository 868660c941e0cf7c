import { FATES, type Fate, type Timeline } from '@oak-gauge/core/capture/timeline.ts'
import { fixed } from '../../looks/quantity.ts'
import { t } from '../../words/t.ts'

/** What became of a frame, in words. */
export const SAID: Record<Fate, string> = {
  placed: t('steady'),
  weak: t('weak'),
  lost: t('lost'),
  late: t('not tracked yet'),
  out: t('left out'),
}

const HEIGHT = { state: 14, curve: 18 }

/** s between two times that are written, and how many there are at the most */
const STEPS = [0.5, 1, 2, 5, 10, 20, 30, 60, 120, 300, 600]
const MOST = 8

/** Shares of each fate one above the other, and the two curves, by part. Shape before colour: solid, hatched, dotted. */
export function Bands({ line, width }: { line: Timeline; width: number }) {
  const parts = line.rate.length
  const x = (k: number) => fixed((width * k) / parts, 2)
  const fastest = Math.max(...line.rate)
  const { seconds } = line
  const every = STEPS.find((s) => seconds / s <= MOST) ?? seconds
  const loosest = Math.max(0, ...line.sigma.map((s) => s ?? 0))
  const top = new Float64Array(parts).fill(1)
  const step = (f: Fate) => {
    const shares = line.shares[f]
    let d = ''
    for (let k = 0; k < parts; k++) {
      const share = shares[k] ?? 0
      if (!(share > 0)) continue
      const from = top[k]
      top[k] -= share
      d += `M${x(k)} ${fixed(HEIGHT.state * from, 2)}V${fixed(HEIGHT.state * top[k], 2)}H${x(k + 1)}V${fixed(HEIGHT.state * from, 2)}Z`
    }
    return d && <path key={f} className={f} d={d} />
  }
  const curve = (values: readonly (number | null)[], most: number) => {
    let d = ''
    values.forEach((v, k) => {
      if (v === null || !(most > 0)) return
      d += `${d && values[k - 1] !== null ? 'L' : 'M'}${x(k + 0.5)} ${fixed(HEIGHT.curve - 1 - (HEIGHT.curve - 2) * Math.min(1, v / most), 2)}`
    })
    return <path d={d} />
  }
  const lane = (name: string, words: string, height: number, drawn: React.ReactNode) => (
    <>
      <span className="what">{words}</span>
      <svg className={name} width={width} height={height} aria-hidden="true">
        {drawn}
      </svg>
    </>
  )
  return (
    <>
      <svg className="unseen" aria-hidden="true">
        <defs>
          <pattern id="fate-weak" width="5" height="5" patternUnits="userSpaceOnUse" patternTransform="rotate(45)">
            <rect width="2.500" height="5" />
          </pattern>
        </defs>
      </svg>
      {lane(
        'state',
        FATES.filter((f) => line.shares[f].length)
          .map((f) => SAID[f])
          .join(', ') || t('state'),
        HEIGHT.state,
        FATES.map(step),
      )}
      {lane('rate', t('frames a second, up to {{rate}}', { rate: fixed(fastest, 1) }), HEIGHT.curve, curve(line.rate, fastest))}
      {lane(
        'held',
        loosest > 0 ? t('held within, up to {{mm}} mm', { mm: fixed(loosest, 3) }) : t('held within: not known'),
        HEIGHT.curve,
        curve(line.sigma, loosest),
      )}
      <div className="times figure">
        {Array.from({ length: Math.floor(seconds / every) + 1 }, (_, k) => (
          <span key={k} style={{ left: `${fixed((width * k * every) / Math.max(seconds, 1e-9), 1)}px` }}>
            {k * every} s
          </span>
        ))}
      </div>
    </>
  )
}
