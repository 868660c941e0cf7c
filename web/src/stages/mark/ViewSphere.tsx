import { useState } from 'react'
import type { Judged } from './markSlice.ts'
import { fixed } from '../../looks/quantity.ts'
import { t } from '../../words/t.ts'
import { Words } from '../../words/Words.tsx'

const R = 62

/** Lambert's equal-area projection of a half sphere, seen from its pole: no direction looks larger than another. */
function place(x: number, y: number, z: number): [number, number] {
  const k = Math.sqrt(2 / (1 + Math.abs(z)))
  return [(x * k * R) / Math.SQRT2, (-y * k * R) / Math.SQRT2]
}

/** From where enough markers are seen: a full dot where it is comfortable, a ring where it just does, a cross where tracking would end. */
export function ViewSphere({ judged, least, wanted }: { judged: Judged; least: number; wanted: number }) {
  const { verdict: v, directions } = judged
  const [at, setAt] = useState<number | null>(null)
  const below = directions.some((z, i) => i % 3 === 2 && z < 0)
  const n = v.seen.length
  const weakest = v.seen.reduce((a, s, i) => (s < v.seen[a] ? i : a), 0)
  const told = at ?? weakest
  const dot = (i: number) => {
    const [x, y] = place(directions[3 * i], directions[3 * i + 1], directions[3 * i + 2])
    const left = directions[3 * i + 2] >= 0 ? R + 6 : 3 * R + 20
    const seen = v.seen[i]
    return (
      <g
        key={i}
        transform={`translate(${fixed(left + x, 1)} ${fixed(R + 8 + y, 1)})`}
        className={told === i ? 'on' : ''}
        onPointerEnter={() => setAt(i)}
        onPointerLeave={() => setAt(null)}
      >
        <circle r="5.500" className="reach" />
        {seen >= wanted ? (
          <circle r="3.400" className="full" />
        ) : seen >= least ? (
          <circle r="3" className="open" />
        ) : (
          <path d="M-3 -3L3 3M-3 3L3 -3" className="bad" />
        )}
      </g>
    )
  }
  return (
    <div className="sphere">
      <svg
        width={below ? 4 * R + 26 : 2 * R + 12}
        height={2 * R + 16}
        role="img"
        aria-label={t('Markers seen from {{n}} directions; weakest {{weakest}}', { n, weakest: v.weakest })}
      >
        <circle cx={R + 6} cy={R + 8} r={R} className="rim" />
        {below && <circle cx={3 * R + 20} cy={R + 8} r={R} className="rim" />}
        {Array.from({ length: n }, (_, i) => dot(i))}
      </svg>
      <div>
        <div className="hint">
          {below ? t('Left: from above. Right: from below.') : t('Seen from above; the rim is level with the table.')} <span className="sign full" />{' '}
          <Words
            of={'{{wanted}} or more <sign/> {{least}} to {{below}} <sign2>×</sign2> fewer'}
            values={{ wanted, least, below: wanted - 1 }}
            parts={{ sign: <span className="sign open" />, sign2: <span className="sign bad" /> }}
          />
        </div>
        {n > 0 && (
          <p className="hint" data-direction={told}>
            {at === null ? t('Weakest: ') : ''}
            {directionWords(directions[3 * told], directions[3 * told + 1], directions[3 * told + 2])}, <span className="figure">{v.seen[told]}</span>{' '}
            {t('markers seen{{why}}.', {
              count: v.seen[told],
              why: v.why[told] ? t('; of the others most are {{why}}', { why: v.why[told] }) : '',
            })}
          </p>
        )}
      </div>
    </div>
  )
}

export function directionWords(x: number, y: number, z: number): string {
  const height = Math.round((Math.asin(z) * 180) / Math.PI)
  if (height > 75) return t('from above')
  if (height < -75) return t('from below')
  const sides = [t('the right'), t('back right'), t('the back'), t('back left'), t('the left'), t('front left'), t('the front'), t('front right')]
  const side = sides[(Math.round((Math.atan2(y, x) * 4) / Math.PI) + 8) % 8]
  return height < 0 ? t('from {{side}}, {{height}}° below level', { side, height: -height }) : t('from {{side}}, {{height}}° over level', { side, height })
}
