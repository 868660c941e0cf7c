import type { MappedMarker, MappingRun } from '@oak-gauge/contract'
import { fixed } from '../../looks/quantity.ts'
import { t } from '../../words/t.ts'

const W = 900
const H = 660
const MARGIN = 60

/**
 * The map as it grows, from above, to scale: ring = mapped, filled = seen now, dashed = doubtful, crossed = moved. The scanner is drawn where it stands, with
 * its line of sight.
 */
export function MapPicture({ run }: { run: MappingRun }) {
  const { markers } = run
  const xs = markers.map((m) => m.at[0])
  const ys = markers.map((m) => m.at[1])
  const span = markers.length ? Math.max(Math.max(...xs) - Math.min(...xs), ((Math.max(...ys) - Math.min(...ys)) * W) / H, 120) : 400
  const k = (W - 2 * MARGIN) / span
  const mid = markers.length ? [(Math.max(...xs) + Math.min(...xs)) / 2, (Math.max(...ys) + Math.min(...ys)) / 2] : [0, 0]
  const x = (v: number) => W / 2 + (v - mid[0]) * k
  const y = (v: number) => H / 2 - (v - mid[1]) * k
  const bar = [500, 200, 100, 50, 20].find((b) => b * k < W / 3) ?? 10
  const s = run.scanner
  return (
    <div className="mapping" data-mapping={run.phase}>
      <svg
        viewBox={`0 0 ${W} ${H}`}
        role="img"
        aria-label={t('Marker map from above: {{markers}} markers, {{enough}} known well enough', { markers: markers.length, enough: run.enough })}
      >
        <g className="scale" transform={`translate(${MARGIN} ${H - 22})`}>
          <path d={`M0 -5V0H${bar * k}V-5`} fill="none" stroke="var(--deep)" strokeWidth="1.4" />
          <text x={bar * k + 8} y="0" className="figure">
            {bar} mm
          </text>
        </g>
        {s && <Scanner x={x(s.at[0])} y={y(s.at[1])} dx={s.looks[0]} dy={-s.looks[1]} />}
        {markers.map((m, i) => (
          <g key={i} transform={`translate(${fixed(x(m.at[0]), 1)} ${fixed(y(m.at[1]), 1)})`} data-mapped={m.id} data-state={m.state}>
            <MapSymbol m={m} r={Math.max(5, (m.diameter / 2) * k)} />
            {m.id && (
              <text x="9" y="-7" className="figure id">
                {m.id}
              </text>
            )}
          </g>
        ))}
      </svg>
      {!markers.length && <p className="said">{t('Show the scanner the markers: at least four at a time.')}</p>}
    </div>
  )
}

function MapSymbol({ m, r }: { m: MappedMarker; r: number }) {
  const known = m.state === 'enough'
  return (
    <g className={`ring ${m.moved !== null || m.state === 'gone' ? 'moved' : known ? 'mapped' : 'doubtful'}`}>
      <circle r={r} className={m.now ? 'now' : ''} />
      {(m.moved !== null || m.state === 'gone') && <path d={`M${-r - 3} ${-r - 3}L${r + 3} ${r + 3}M${-r - 3} ${r + 3}L${r + 3} ${-r - 3}`} />}
    </g>
  )
}

/** Where the scanner stands, and a line towards what it looks at. Off the picture it is drawn at the rim. */
function Scanner({ x, y, dx, dy }: { x: number; y: number; dx: number; dy: number }) {
  const px = Math.min(W - 18, Math.max(18, x))
  const py = Math.min(H - 40, Math.max(18, y))
  const l = Math.hypot(dx, dy) || 1
  return (
    <g transform={`translate(${fixed(px, 1)} ${fixed(py, 1)})`} className="eye">
      <line x2={(dx / l) * 44 * l} y2={(dy / l) * 44 * l} />
      <rect x="-9" y="-6" width="18" height="12" rx="2" />
      <circle cx="-4.500" r="2.200" />
      <circle cx="4.500" r="2.200" />
    </g>
  )
}
